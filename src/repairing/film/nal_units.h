// The units of H.264 (ITU-T H.264, 7.3) and HEVC (ITU-T H.265, 7.3) as films hold them: each with its length before it.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace dredger::repairing {

// What the sequence and picture parameters say that slice headers need.
struct AvcSetup {
    unsigned length_bytes = 4;
    unsigned frame_number_bits = 4;
    unsigned order_type = 0, order_bits = 4;
    bool frames_only = true, separate_planes = false;
};
// From avcC (ISO/IEC 14496-15, 5.3.3).
AvcSetup avc_setup(std::span<const std::uint8_t> record);

struct HevcSetup {
    unsigned length_bytes = 4;
    unsigned order_bits = 4;
    unsigned extra_slice_bits = 0;
    bool has_output_flag = false, separate_planes = false;
};
// From hvcC (8.3.3).
HevcSetup hevc_setup(std::span<const std::uint8_t> record);

struct NalUnit {
    bool is_valid = false;  // it can stand in a film
    bool is_slice = false;
    bool begins_picture = false;    // a slice that is the first of its picture
    bool may_follow_slice = false;  // it belongs to the picture before it, where there is one
    bool is_sync = false;
};
NalUnit avc_unit(std::span<const std::uint8_t> unit);
NalUnit hevc_unit(std::span<const std::uint8_t> unit);

// The low bits of the place of a picture in the order of showing; none where the slice does not tell.
std::optional<unsigned> avc_order(std::span<const std::uint8_t> slice, const AvcSetup& setup);
std::optional<unsigned> hevc_order(std::span<const std::uint8_t> slice, const HevcSetup& setup);

}  // namespace dredger::repairing

// Raw frames of AAC (ISO/IEC 14496-3, 4.4.2), which tell their length only to who decodes them: their syntax is
// followed to the end, no sound is computed.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

namespace dredger::repairing {

struct AacSetup {
    unsigned rate_index = 4;  // of the sampling frequency, 0 to 12
    unsigned channels = 2;    // as the configuration says; 0: it does not
};

// From the decoder's configuration (1.6.2.1); none where it is of a kind that is not followed here.
std::optional<AacSetup> aac_setup(std::span<const std::uint8_t> configuration);

// Bytes of the frame that begins `bytes`; 0 where there is none, or it does not end within them.
std::size_t aac_frame_length(std::span<const std::uint8_t> bytes, const AacSetup& setup);

}  // namespace dredger::repairing

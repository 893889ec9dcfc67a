// The entropy-coded data of a sequential JPEG (ITU-T T.81, annex F), decoded from any bit of it, so that decoding can
// go on behind damage.
#pragma once

#include <span>
#include <vector>

#include "repairing/picture/jpeg_picture.h"

namespace dredger::repairing {

// The data of one scan without the zeros that are stuffed into it.
struct JpegScanData {
    std::vector<std::uint8_t> bytes;
    struct Mark {
        std::size_t at;   // of `bytes`
        unsigned number;  // of a restart marker, 0 to 7
    };
    std::vector<Mark> marks;
    std::vector<Extent>
        damage;            // ranges of `bytes` that can't be picture data: holes, zeros, markers that don't belong
    bool has_end = false;  // the marker of the end stands behind it
};

// `holes`: of the content. Of the header its code tables are asked, which it has.
JpegScanData read_scan_data(Reader& content, const JpegHeader& header, std::span<const Extent> holes);

class McuDecoder {
  public:
    // Both must outlive it. The header has its tables.
    McuDecoder(const JpegHeader& header, std::span<const std::uint8_t> bytes);

    struct Place {
        std::size_t bit = 0;
        std::size_t phase = 0;  // which block of an MCU comes next
    };
    std::size_t blocks_in_mcu() const { return sequence_.size(); }

    // MCUs that follow each other.
    struct Run {
        std::vector<JpegBlock> blocks;
        std::vector<std::size_t> starts;  // the first bit of each MCU
        std::size_t end = 0;              // the bit behind the last one
        bool broke = false;               // what follows makes no sense; else `most` was reached, or the end
        std::size_t mcus() const { return starts.size(); }
    };
    // At most `most` MCUs from `place` on, up to bit `end`. Blocks in front of the first whole MCU are left out. Where
    // it may not be `in_step` from the start, what the first MCUs came to contradicts nothing.
    Run decode(Place place, std::size_t end, std::size_t most, bool in_step = true) const;
    static constexpr std::size_t kOutOfStep = 8;  // MCUs after which decoding is in step again, in most cases

    // Where decoding makes sense again: the first place in [from, end) from which on at least `least` MCUs follow
    // without a contradiction, or fewer that end exactly at `end`. None where there is no such place within `reach`.
    // Far behind `from` the first one may be a few blocks later than it could be.
    std::optional<Place> find_sense(std::size_t from, std::size_t end, std::size_t least,
                                    const std::function<bool()>& should_stop,
                                    std::size_t reach = ~std::size_t{0}) const;

  private:
    class SenseSearch;
    struct Block {
        std::size_t component;
        const formats::JpegHuffman* dc;
        const formats::JpegHuffman* ac;
    };
    // What was met of the DC coefficients of each component, relative to where decoding began.
    struct Sums {
        std::array<int, 4> now{}, least{}, most{};
    };
    std::uint32_t peek16(std::size_t bit) const;
    bool decode_block(const Block& block, std::size_t& bit, std::size_t end, Sums& sums, JpegBlock* into) const;
    bool is_end(std::size_t bit, std::size_t end) const;

    std::span<const std::uint8_t> bytes_;
    std::vector<Block> sequence_;
    std::array<std::array<int, 64>, 4> most_{};  // of each component: the largest that a coefficient can be
    std::array<int, 4> most_dc_{};               // and how far its DC coefficients can be apart
};

}  // namespace dredger::repairing

// Huffman tables of JPEG (ITU-T T.81, annexes C and F.2.2.3).
#pragma once

#include <array>
#include <cstdint>
#include <limits>
#include <string>
#include <vector>

namespace dredger::formats {

class JpegHuffman {
  public:
    static constexpr unsigned kLookup = 11;  // bits: codes up to this length take one look-up

    struct Entry {
        std::uint8_t bits = 0;    // of the code; 0: no such code
        std::uint8_t symbol = 0;  // DC: size of the difference; AC: run in the high half, size in the low
    };

    // `counts`: codes of each length from 1 to 16. False where they can't be a code.
    bool define(const std::array<std::uint8_t, 16>& counts, const std::vector<std::uint8_t>& symbols);
    // Its counts and symbols: what tells it from others.
    const std::string& definition() const { return definition_; }
    bool is_defined() const { return !symbols_.empty(); }
    // `peeked`: the next 16 bits.
    Entry decode(std::uint32_t peeked) const;
    // `prefix`: the next kLookup bits. No such code, too, where it is a longer one.
    Entry decode_short(std::uint32_t prefix) const { return short_codes_[prefix]; }

  private:
    std::array<Entry, 1 << kLookup> short_codes_{};
    std::array<std::int32_t, 17> last_code_{};    // of each length, left-aligned in 16 bits; -1: none
    std::array<std::int32_t, 17> first_index_{};  // of the symbols of a length, less its first code
    std::vector<std::uint8_t> symbols_;
    std::string definition_;
};

// What the next bits tell of a sequential block's coefficients, as many at once as there are codes in them.
class JpegStride {
  public:
    static constexpr unsigned kLookup = JpegHuffman::kLookup;
    static constexpr unsigned kMaxBits = 18;  // codes and values, of one stride

    JpegStride() = default;  // tells nothing
    JpegStride(unsigned bits, unsigned advance, bool ends)
        : packed_(static_cast<std::int16_t>(static_cast<std::int16_t>(bits | advance << 6) | (ends ? kEnds : 0))) {}

    unsigned bits() const { return static_cast<unsigned>(packed_) & 63U; }             // codes and values
    unsigned advance() const { return static_cast<unsigned>(packed_) >> 6 & 0x1FFU; }  // coefficients
    // All bits where the block ends behind the last of them, else none.
    std::int64_t ends() const { return std::int64_t{packed_} >> 63; }

    // Whether the advance, from coefficient `k`, says where the next code stands. Not so where it fills the block: such
    // a block has no end code, and what looks like one belongs to the next.
    static bool leads_nowhere(unsigned reached) { return reached >= 64; }

  private:
    static constexpr std::int16_t kEnds = std::numeric_limits<std::int16_t>::min();
    std::int16_t packed_ = 64 << 6;
};
using JpegStrides = std::array<JpegStride, 1 << JpegStride::kLookup>;

// At the start of a block: the difference of its DC coefficient, and what follows it.
JpegStrides block_strides(const JpegHuffman& dc, const JpegHuffman& ac);
// Behind that.
JpegStrides ac_strides(const JpegHuffman& ac);

}  // namespace dredger::formats

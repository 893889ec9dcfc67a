// Entropy-coded data of JPEG (ITU-T T.81, annexes F and G), decoded as far as it takes to know that it makes sense:
// every Huffman code, every run, every restart marker and the number of blocks; no pixel is computed.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "formats/reader.h"

namespace dredger::formats {

// A Huffman table, made for skipping: one look-up tells how many bits a code and its value take and how far it runs.
class JpegHuffman {
  public:
    static constexpr unsigned kLookup = 10;  // bits
    struct Entry {
        std::uint8_t bits = 0;    // of the code; 0: no such code, or a longer one
        std::uint8_t symbol = 0;  // run in the high half, size in the low
    };

    // `counts`: codes of each length from 1 to 16. False where they can't be a code.
    bool define(const std::array<std::uint8_t, 16>& counts, const std::vector<std::uint8_t>& symbols);
    bool is_defined() const { return !symbols_.empty(); }
    // `peeked`: the next 16 bits.
    Entry decode(std::uint32_t peeked) const;

    // All that the next kLookup bits tell of a sequential block's coefficients at once.
    struct Stride {
        static constexpr std::uint8_t kEnd = 128;  // added to the advance where the block ends behind it
        static constexpr std::uint8_t kNone = 255;
        std::uint8_t bits = 0;         // codes and values
        std::uint8_t advance = kNone;  // coefficients
    };
    const Stride& stride(std::uint32_t peeked) const { return strides_[peeked >> (16 - kLookup)]; }
    void prepare_strides();

  private:
    std::array<Entry, 1 << kLookup> short_codes_{};
    std::array<std::int32_t, 17> last_code_{};    // of each length, left-aligned in 16 bits; -1: none
    std::array<std::int32_t, 17> first_index_{};  // of the symbols of a length, less its first code
    std::vector<std::uint8_t> symbols_;
    std::vector<Stride> strides_;
};

struct JpegComponent {
    std::uint8_t id = 0;
    unsigned across = 1;  // sampling factors
    unsigned down = 1;
    unsigned blocks_across = 0;  // of its own; an interleaved scan pads them to whole MCUs
    unsigned blocks_down = 0;
    unsigned padded_across = 0;
    std::vector<std::uint64_t> filled;  // progressive: the coefficients that are not zero so far, a bit each
};

struct JpegScanHeader {
    std::vector<JpegComponent*> components;
    std::vector<const JpegHuffman*> dc;  // of each component
    std::vector<JpegHuffman*> ac;
    unsigned first = 0;  // spectral selection
    unsigned last = 63;
    unsigned high = 0;  // successive approximation
    unsigned low = 0;
    bool progressive = false;
    unsigned mcus_across = 0;  // of an interleaved scan
    unsigned mcus_down = 0;
    unsigned restart_interval = 0;  // MCUs; 0: none
};

struct JpegScanResult {
    bool complete = false;     // all blocks are there, and a marker follows
    std::uint64_t end = 0;     // where that marker stands; else up to where the data makes sense
    std::uint64_t blocks = 0;  // decoded
};

JpegScanResult decode_jpeg_scan(Reader& content, std::uint64_t start, const JpegScanHeader& scan);

}  // namespace dredger::formats

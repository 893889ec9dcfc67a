// Entropy-coded data of JPEG (ITU-T T.81, annexes F and G), decoded as far as it takes to know that it makes sense:
// every Huffman code, every run, every restart marker and the number of blocks; no pixel is computed.
#pragma once

#include <cstdint>
#include <vector>

#include "formats/jpeg_huffman.h"
#include "formats/reader.h"

namespace dredger::formats {

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
    std::vector<const JpegHuffman*> ac;
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

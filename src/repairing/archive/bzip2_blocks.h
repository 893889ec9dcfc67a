// The blocks of a bzip2 stream, found by their marks at any bit. There is no specification; the layout is that which
// the reference implementation writes.
#pragma once

#include <string>
#include <vector>

#include "formats/reader.h"

namespace dredger::repairing {

struct Bzip2Block {
    std::uint64_t first_bit = 0;  // of the content: where its mark begins
    std::uint64_t bits = 0;       // up to the next mark
    bool has_end = false;         // the mark behind it is that of the stream's end
};

std::vector<Bzip2Block> find_bzip2_blocks(Reader& content);

// What comes out of a block; empty where its checksum is off.
std::string unpack_bzip2_block(Reader& content, const Bzip2Block& block);

}  // namespace dredger::repairing

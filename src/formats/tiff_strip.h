// A strip or tile of a TIFF picture: whether it unpacks. Source: TIFF 6.0, sections 9 (PackBits), 13 (LZW); Adobe
// Photoshop TIFF Technical Notes (Deflate); libtiff's tags for LZMA and Zstandard.
#pragma once

#include "formats/reader.h"

namespace dredger::formats {

struct TiffStrip {
    std::uint64_t at = 0;           // bytes from the start of the content
    std::uint64_t length = 0;       // bytes
    std::uint32_t compression = 1;  // the tag's number
    std::uint64_t full_length = 0;  // bytes that it is unpacked; 0: not known
    std::uint64_t end() const { return at + length; }
};

struct StripLook {
    enum class Found {
        unchecked,  // nothing in it shows whether it is right
        wrong,
        unpacked,  // it leads to its end
        summed,    // and to its checksum
    };
    Found found = Found::unchecked;
    std::uint64_t sense = 0;  // bytes of one that is wrong that make sense
};

StripLook look_at(Reader& content, const TiffStrip& strip);

}  // namespace dredger::formats

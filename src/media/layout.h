// Where a file's content lies on a medium, and how it is packed there.
#pragma once

#include <vector>

#include "media/medium.h"

namespace dredger {

enum class Codec {
    none,
    lznt1,  // media/lznt1.h
};

struct Layout {
    // In content order. Without a codec their lengths add up to the file's size, or less where the rest is not known.
    // With one they hold `unit` after `unit` of content: a unit that is stored whole is not packed, one that is all
    // zeros stands for zeros, and any other begins with its packed bytes and ends in zeros that stand for nothing.
    std::vector<Extent> extents;
    Codec codec = Codec::none;
    std::uint32_t unit = 0;  // bytes of content that were packed together; 0 without a codec

    // The bytes stand within the file system's own records, not in clusters: they are whole as long as the record is.
    bool within_records = false;

    bool empty() const { return extents.empty(); }
    bool operator==(const Layout&) const = default;
};

}  // namespace dredger

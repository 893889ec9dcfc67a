// Where a file's content lies on a medium, and how it is packed there.
#pragma once

#include <vector>

#include "media/medium.h"

namespace dredger {

enum class Codec {
    none,
    lznt1,  // media/lznt1.h
    each,   // every extent by itself: Layout::packs
};

// How one extent of a file is packed, where each is by itself.
struct Pack {
    enum class Codec { none, zlib, lzo, zstd };
    Codec codec = Codec::none;
    std::uint64_t content = 0;   // bytes of the file that it stands for
    std::uint64_t skip = 0;      // bytes that come out before these
    std::uint64_t unpacked = 0;  // bytes that come out in all
    bool operator==(const Pack&) const = default;
};

struct Layout {
    // In content order. Without a codec their lengths add up to the file's size, or less where the rest is not known.
    // With one they hold `unit` after `unit` of content: a unit that is stored whole is not packed, one that is all
    // zeros stands for zeros, and any other begins with its packed bytes and ends in zeros that stand for nothing.
    std::vector<Extent> extents;
    Codec codec = Codec::none;
    std::uint32_t unit = 0;   // bytes of content that were packed together; 0 without a codec
    std::vector<Pack> packs;  // with Codec::each: one for each extent, whose lengths are those of the packed bytes

    // CRC-32C of each `sum_unit` bytes of the stored extents, one extent behind the other, as the file system kept
    // them; empty where it did not for all of them.
    std::vector<std::uint32_t> sums;
    std::uint32_t sum_unit = 0;

    // The bytes stand within the file system's own records, not in clusters: they are whole as long as the record is.
    bool within_records = false;

    bool empty() const { return extents.empty(); }
    bool operator==(const Layout&) const = default;
};

}  // namespace dredger

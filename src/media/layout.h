// Where a file's content lies, and how it is packed there.
#pragma once

#include <algorithm>
#include <vector>

#include "media/medium.h"

namespace dredger {

enum class Codec {
    none,
    lznt1,  // media/lznt1.h
    each,   // every extent by itself: LayoutExtent::pack
};

// How one extent of a file is packed, where each is by itself. No file system packs more than a few MiB together.
struct Pack {
    enum class Method : std::uint32_t { none, zlib, lzo, zstd, lzvn, lzfse };
    Method method = Method::none;
    std::uint32_t skip = 0;      // bytes that come out before those of the file
    std::uint32_t unpacked = 0;  // bytes that come out in all
    std::uint32_t content = 0;   // bytes of the file that it stands for; 0: its packed bytes go on in the next extent
    bool is_packed() const { return method != Method::none; }
    bool operator==(const Pack&) const = default;
};

// A run of a file's content: where it is stored and how, or that it is zeros, or not known.
struct LayoutExtent : Extent {
    Pack pack = {};

    LayoutExtent() = default;
    LayoutExtent(const Extent& extent, const Pack& how = {}) : Extent(extent), pack(how) {}
    LayoutExtent(std::uint64_t at, std::uint64_t bytes) : Extent{at, bytes} {}
    // Bytes of the file that it stands for.
    std::uint64_t content() const { return pack.is_packed() ? pack.content : length; }
    bool operator==(const LayoutExtent&) const = default;
};

struct Layout {
    // In content order. Without a codec their lengths add up to the file's size, or less where the rest is not known.
    // With LZNT1 they hold `unit` after `unit` of content: a unit that is stored whole is not packed, one that is all
    // zeros stands for zeros, and any other begins with its packed bytes and ends in zeros that stand for nothing.
    std::vector<LayoutExtent> extents;
    Codec codec = Codec::none;
    std::uint32_t unit = 0;  // bytes of content that LZNT1 packed together; 0 without it

    // CRC-32C of each `sum_unit` bytes of the stored extents, one extent behind the other, as the file system kept
    // them; empty where it did not for all of them.
    std::vector<std::uint32_t> sums;
    std::uint32_t sum_unit = 0;

    // The bytes stand within the file system's own records, not in clusters: they are whole as long as the record is.
    bool within_records = false;

    bool empty() const { return extents.empty(); }
    // Nothing of it is packed: these lie one behind the other.
    void lay(const std::vector<Extent>& unpacked) { extents.assign(unpacked.begin(), unpacked.end()); }
    bool operator==(const Layout&) const = default;
};

// "zlib", "lznt1" ...; empty where the extent's bytes are those of the file.
inline std::string_view packing_of(const Layout& layout, const LayoutExtent& extent) {
    constexpr std::string_view kMethodWords[] = {"", "zlib", "lzo", "zstd", "lzvn", "lzfse"};
    if (layout.codec == Codec::lznt1) return "lznt1";
    return kMethodWords[static_cast<std::size_t>(extent.pack.method) % std::size(kMethodWords)];
}

// What the extents of a layout count from is a part of its type; volumes/mapping.h leads from one to the other.
struct VolumeLayout : Layout {};
struct MediumLayout : Layout {};

}  // namespace dredger

// The volume header, and from block numbers to places on the volume.
#pragma once

#include <array>
#include <optional>
#include <vector>

#include "base/bytes.h"
#include "base/times.h"
#include "filesystems/filesystem.h"
#include "filesystems/hfsplus/structures.h"
#include "media/medium.h"

namespace dredger::hfsplus {

struct Fork {
    std::uint64_t size = 0;  // bytes
    std::uint64_t blocks = 0;
    std::array<ExtentDescriptor, kExtentDensity> extents{};

    static Fork of(const ForkData& data);
    bool empty() const { return size == 0; }
    std::uint64_t first_block() const { return extents[0].blockCount != 0 ? extents[0].startBlock.value() : 0; }
};

struct Geometry {
    std::uint64_t base = 0;        // bytes: where it begins on the volume, if it is wrapped in an older HFS
    std::uint64_t block_size = 0;  // bytes, a power of two from 512 on
    std::uint64_t total_blocks = 0, free_blocks = 0;
    std::uint32_t next_id = 0;  // that the next file will get
    bool is_hfsx = false, was_unmounted = true;
    std::uint32_t journal_info_block = 0;  // 0: it has no journal
    Fork allocation, extents, catalog, attributes;

    std::uint64_t length() const { return block_size * total_blocks; }
    std::uint64_t place_of(std::uint64_t block) const { return base + block * block_size; }
    bool holds(std::uint64_t block, std::uint64_t count) const { return lies_within(block, count, total_blocks); }
};

// None where it is no volume header.
std::optional<Geometry> parse_volume_header(ByteView header);

// The header, or its alternate, with a warning; of a volume within a wrapper, that one's.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts);

// Seconds since 1904, UTC.
std::optional<FileTime> time_of(std::uint32_t date);

// A name as people know it: composed, and with a colon where a slash is stored.
std::string name_of(ByteView utf16be);

}  // namespace dredger::hfsplus

// Sizes and places that an NTFS boot sector tells.
#pragma once

#include <optional>

#include "base/bytes.h"

namespace dredger::ntfs {

struct Geometry {
    std::uint32_t sector_size = 512;   // bytes
    std::uint32_t cluster_size = 0;    // bytes, 512 .. 2 MiB
    std::uint32_t record_size = 0;     // bytes of a record of the MFT, 512 .. 64 KiB
    std::uint32_t index_size = 0;      // bytes of an index block, 512 .. 64 KiB
    std::uint64_t cluster_count = 0;   // whole clusters on the volume
    std::uint64_t size = 0;            // bytes, without the boot sector's copy
    std::uint64_t mft_cluster = 0;     // where $MFT begins
    std::uint64_t mirror_cluster = 0;  // where $MFTMirr begins
    std::uint64_t serial = 0;

    bool holds(std::uint64_t cluster) const { return cluster < cluster_count; }
};

// From one sector; nothing where it is not an NTFS boot sector that makes sense.
std::optional<Geometry> parse_boot_sector(ByteView sector);

}  // namespace dredger::ntfs

// Where the parts of an exFAT volume lie.
#pragma once

#include <optional>

#include "base/bytes.h"

namespace dredger::exfat {

struct Geometry {
    std::uint32_t sector_size = 512;  // bytes, 512 .. 4096
    std::uint64_t cluster_size = 0;   // bytes, at most 32 MiB
    std::uint64_t fat_offset = 0;     // bytes from the start of the volume; the FAT that counts
    std::uint64_t fat_size = 0;       // bytes
    std::uint64_t heap_offset = 0;    // bytes; cluster 2 starts here
    std::uint32_t cluster_count = 0;  // usable ones: they have a FAT entry and lie on the volume
    std::uint32_t root_cluster = 0;
    std::uint64_t size = 0;  // bytes that the boot sector claims
    std::uint32_t serial = 0;
    unsigned active_fat = 0;  // 0 or 1; the bitmap with the same number counts
    bool dirty = false;

    bool holds(std::uint64_t cluster) const { return cluster >= 2 && cluster - 2 < cluster_count; }
    // Bytes from the start of the volume. The cluster must be held.
    std::uint64_t offset_of(std::uint64_t cluster) const { return heap_offset + (cluster - 2) * cluster_size; }
};

// From one sector; nothing where it is not an exFAT boot sector that makes sense. `volume_size`: bytes that can really
// be read.
std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t volume_size);

// Whether the checksum in the twelfth sector of a boot region is that of the eleven before it.
bool checksum_agrees(ByteView region, std::uint32_t sector_size);

}  // namespace dredger::exfat

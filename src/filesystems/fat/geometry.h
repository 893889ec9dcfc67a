// Where the parts of a FAT volume lie, worked out from its boot sector as the specification says: which of the three
// FATs it is follows from the count of clusters alone.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"

namespace dredger::fat {

// FAT32 entries have 28 bits, and the last values mean something else.
constexpr std::uint64_t kMaxClusters = 0x0FFFFFF5;

enum class Width { fat12, fat16, fat32 };

struct Geometry {
    Width width = Width::fat12;
    std::uint32_t sector_size = 512;  // bytes
    std::uint64_t cluster_size = 0;   // bytes
    std::uint64_t fat_offset = 0;     // bytes from the start of the volume; the first FAT
    std::uint64_t fat_size = 0;       // bytes of one FAT
    unsigned fat_count = 2;
    unsigned active_fat = 0;  // the FAT that counts; the others mirror it unless `mirrored` is false
    bool mirrored = true;
    std::uint64_t root_offset = 0;    // bytes; FAT12 and FAT16 only
    std::uint32_t root_entries = 0;   // FAT12 and FAT16 only
    std::uint32_t root_cluster = 0;   // FAT32 only
    std::uint64_t data_offset = 0;    // bytes; cluster 2 starts here
    std::uint32_t cluster_count = 0;  // usable ones: they have a FAT entry and lie on the volume
    std::uint64_t size = 0;           // bytes that the boot sector claims
    std::uint32_t volume_id = 0;
    std::string label;         // of the boot sector; the root directory may know better
    bool is_mountable = true;  // told by the boot sector itself, not by its copy
    std::vector<std::string> warnings;

    bool holds(std::uint32_t cluster) const { return cluster >= 2 && cluster - 2 < cluster_count; }
    std::uint32_t last_cluster() const { return cluster_count + 1; }
    // Bytes from the start of the volume. The cluster must be held.
    std::uint64_t offset_of(std::uint32_t cluster) const {
        return data_offset + std::uint64_t{cluster - 2} * cluster_size;
    }
    const char* name() const;
};

// From one sector; nothing where it is not a FAT boot sector. `volume_size`: bytes that can really be read.
std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t volume_size);

}  // namespace dredger::fat

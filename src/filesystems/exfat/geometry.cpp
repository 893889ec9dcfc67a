#include "filesystems/exfat/geometry.h"

#include <algorithm>

#include "filesystems/exfat/structures.h"

namespace dredger::exfat {

std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t volume_size) {
    const auto boot = sector.as<BootSector>(0);
    if (!boot || !sector.has(3, "EXFAT   ") || boot->BytesPerSectorShift < 9 || boot->BytesPerSectorShift > 12 ||
        boot->SectorsPerClusterShift > 25 - boot->BytesPerSectorShift || boot->NumberOfFats < 1 ||
        boot->NumberOfFats > 2)
        return std::nullopt;
    Geometry g;
    g.sector_size = 1U << boot->BytesPerSectorShift;
    g.cluster_size = std::uint64_t{g.sector_size} << boot->SectorsPerClusterShift;
    g.active_fat = boot->NumberOfFats == 2 ? boot->VolumeFlags & kActiveFat : 0;
    g.dirty = (boot->VolumeFlags & kVolumeDirty) != 0;
    g.fat_size = std::uint64_t{boot->FatLength} * g.sector_size;
    g.fat_offset = std::uint64_t{boot->FatOffset} * g.sector_size + g.active_fat * g.fat_size;
    g.heap_offset = std::uint64_t{boot->ClusterHeapOffset} * g.sector_size;
    const auto size = checked_mul(boot->VolumeLength, g.sector_size);
    if (!size || *size <= g.heap_offset || g.fat_offset == 0 || g.heap_offset <= g.fat_offset) return std::nullopt;
    g.size = *size;
    if (volume_size <= g.heap_offset) return std::nullopt;
    const std::uint64_t most = std::min((std::min(g.size, volume_size) - g.heap_offset) / g.cluster_size,
                                        g.fat_size / 4 - std::min<std::uint64_t>(g.fat_size / 4, 2));
    g.cluster_count = static_cast<std::uint32_t>(std::min<std::uint64_t>(boot->ClusterCount, most));
    g.root_cluster = boot->FirstClusterOfRootDirectory;
    g.serial = boot->VolumeSerialNumber;
    if (!g.holds(g.root_cluster)) return std::nullopt;
    return g;
}

bool checksum_agrees(ByteView region, std::uint32_t sector_size) {
    const std::size_t covered = std::size_t{sector_size} * (kBootRegionSectors - 1);
    const auto bytes = region.slice(0, covered);
    const auto stored = region.u32le(covered);
    if (!bytes || !stored) return false;
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < covered; ++i) {
        // VolumeFlags and PercentInUse change while the volume is in use.
        if (i == 106 || i == 107 || i == 112) continue;
        sum = (sum << 31U | sum >> 1U) + std::to_integer<std::uint32_t>(bytes->bytes()[i]);
    }
    return sum == *stored;
}

}  // namespace dredger::exfat

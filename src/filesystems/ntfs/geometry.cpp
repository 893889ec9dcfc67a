#include "filesystems/ntfs/geometry.h"

#include <bit>

#include "filesystems/ntfs/structures.h"

namespace dredger::ntfs {
namespace {

constexpr std::uint64_t kLargestCluster = 2 << 20;  // bytes
constexpr std::uint64_t kLargestBlock = 64 << 10;   // bytes of a record or an index block

std::uint64_t sectors_per_cluster(std::uint8_t value) {
    if (value <= 0x80) return value;
    const unsigned exponent = 256U - value;
    return exponent < 32 ? std::uint64_t{1} << exponent : 0;
}

// Clusters where positive, an exponent of bytes where negative; 0 where it is neither.
std::uint32_t block_size(std::int8_t value, std::uint32_t cluster_size) {
    const std::uint64_t size = value > 0     ? std::uint64_t{cluster_size} * static_cast<std::uint64_t>(value)
                               : value > -32 ? std::uint64_t{1} << static_cast<unsigned>(-value)
                                             : 0;
    return std::has_single_bit(size) && size >= 512 && size <= kLargestBlock ? static_cast<std::uint32_t>(size) : 0;
}

}  // namespace

std::optional<Geometry> parse_boot_sector(ByteView sector) {
    const auto boot = sector.as<BootSector>(0);
    if (!boot || !sector.has(3, "NTFS    ")) return std::nullopt;
    Geometry g;
    g.sector_size = boot->BytesPerSector;
    if (!std::has_single_bit(g.sector_size) || g.sector_size < 256 || g.sector_size > 4096) return std::nullopt;
    const std::uint64_t cluster = g.sector_size * sectors_per_cluster(boot->SectorsPerCluster);
    if (cluster == 0 || !std::has_single_bit(cluster) || cluster > kLargestCluster) return std::nullopt;
    g.cluster_size = static_cast<std::uint32_t>(cluster);
    g.record_size = block_size(boot->ClustersPerFileRecordSegment, g.cluster_size);
    g.index_size = block_size(boot->DefaultClustersPerIndexAllocationBuffer, g.cluster_size);
    const auto size = checked_mul(boot->NumberSectors, g.sector_size);
    if (!size || g.record_size == 0 || g.index_size == 0) return std::nullopt;
    g.size = *size;
    g.cluster_count = g.size / g.cluster_size;
    g.mft_cluster = boot->MftStartLcn;
    g.mirror_cluster = boot->Mft2StartLcn;
    g.serial = boot->SerialNumber;
    if (!g.holds(g.mft_cluster) && !g.holds(g.mirror_cluster)) return std::nullopt;
    return g;
}

}  // namespace dredger::ntfs

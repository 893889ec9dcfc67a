#include "filesystems/ext/superblock.h"

#include <cstddef>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger::ext {
namespace {

constexpr std::uint16_t kMagic = 0xEF53;
constexpr std::uint64_t kMaxGroups = std::uint64_t{1} << 22;  // 512 TiB in 4 KiB blocks

bool is_power_of_two(std::uint64_t n) { return n != 0 && (n & (n - 1)) == 0; }

bool is_power_of(std::uint64_t n, std::uint64_t base) {
    while (n % base == 0) n /= base;
    return n == 1;
}

std::string name_of(std::uint32_t compat, std::uint32_t incompat, std::uint32_t ro_compat) {
    constexpr std::uint32_t kOfExt3 = 0x1F, kOfExt3ReadOnly = 0x7;  // features that came before ext4
    if ((incompat & ~kOfExt3) != 0 || (ro_compat & ~kOfExt3ReadOnly) != 0) return "ext4";
    return (compat & COMPAT_HAS_JOURNAL) != 0 ? "ext3" : "ext2";
}

bool makes_sense(const Geometry& g) {
    const std::uint64_t bits = 8 * g.block_size;
    return g.cluster_size >= g.block_size && g.cluster_size <= std::uint64_t{1} << 30 && g.first_data_block <= 1 &&
           g.blocks > g.first_data_block && g.blocks <= std::uint64_t{1} << 48 && g.blocks_per_group > 0 &&
           g.blocks_per_group <= bits * (g.cluster_size / g.block_size) &&
           g.blocks_per_group % (g.cluster_size / g.block_size) == 0 && g.inodes_per_group > 0 &&
           g.inodes_per_group <= bits && is_power_of_two(g.inode_size) && g.inode_size >= 128 &&
           g.inode_size <= g.block_size && is_power_of_two(g.descriptor_size) && g.descriptor_size >= 32 &&
           g.descriptor_size <= 1024 && g.groups <= kMaxGroups && g.inodes > 0 &&
           g.inodes <= g.groups * g.inodes_per_group;
}

}  // namespace

bool Geometry::has_superblock(std::uint64_t group) const {
    if (group == 0) return true;
    if ((compat & COMPAT_SPARSE_SUPER2) != 0) return group == backup_groups[0] || group == backup_groups[1];
    if ((ro_compat & RO_COMPAT_SPARSE_SUPER) == 0) return true;
    return is_power_of(group, 3) || is_power_of(group, 5) || is_power_of(group, 7);
}

std::optional<Geometry> parse_superblock(ByteView sector, std::uint64_t group) {
    const auto read = sector.as<SuperBlock>(0);
    if (!read) return std::nullopt;
    const SuperBlock& sb = *read;
    // One that counts more than 65535 groups says the rest of the number it has room for.
    if (sb.s_magic != kMagic || sb.s_block_group_nr != (group & 0xFFFFU) || sb.s_log_block_size > 6)
        return std::nullopt;
    const bool is_dynamic = sb.s_rev_level > 0;
    Geometry g;
    g.block_size = std::uint64_t{1024} << sb.s_log_block_size;
    g.compat = is_dynamic ? sb.s_feature_compat.value() : 0;
    g.incompat = is_dynamic ? sb.s_feature_incompat.value() : 0;
    g.ro_compat = is_dynamic ? sb.s_feature_ro_compat.value() : 0;
    const bool has_clusters = (g.ro_compat & RO_COMPAT_BIGALLOC) != 0;
    if (has_clusters && sb.s_log_cluster_size > 20) return std::nullopt;
    g.cluster_size = has_clusters ? std::uint64_t{1024} << sb.s_log_cluster_size : g.block_size;
    const bool is_wide = (g.incompat & INCOMPAT_64BIT) != 0;
    g.blocks = sb.s_blocks_count_lo | (is_wide ? std::uint64_t{sb.s_blocks_count_hi} << 32U : 0);
    g.first_data_block = sb.s_first_data_block;
    g.blocks_per_group = sb.s_blocks_per_group;
    g.inodes_per_group = sb.s_inodes_per_group;
    if (g.blocks_per_group == 0 || g.blocks <= g.first_data_block) return std::nullopt;
    g.groups = divide_up(g.blocks - g.first_data_block, g.blocks_per_group);
    g.inodes = sb.s_inodes_count;
    g.inode_size = is_dynamic ? sb.s_inode_size.value() : 128;
    g.descriptor_size = is_wide ? sb.s_desc_size.value() : 32;
    g.first_meta_group = sb.s_first_meta_bg;
    g.first_inode = is_dynamic ? sb.s_first_ino.value() : 11;
    g.journal_inode = (g.compat & COMPAT_HAS_JOURNAL) != 0 ? sb.s_journal_inum.value() : 0;
    g.backup_groups[0] = sb.s_backup_bgs[0];
    g.backup_groups[1] = sb.s_backup_bgs[1];
    g.clean = (sb.s_state & kCleanlyUnmounted) != 0;
    if (!makes_sense(g) || (g.incompat & INCOMPAT_JOURNAL_DEV) != 0) return std::nullopt;
    if (g.has_checksums() &&
        Crc32c().add(sector.bytes().first(offsetof(SuperBlock, s_checksum))).value() != sb.s_checksum)
        return std::nullopt;
    g.seed = (g.incompat & INCOMPAT_CSUM_SEED) != 0 ? Crc32c(sb.s_checksum_seed)
                                                    : Crc32c().add(std::as_bytes(std::span(sb.s_uuid)));
    g.filesystem = name_of(g.compat, g.incompat, g.ro_compat);
    g.label = printable(std::string(sb.s_volume_name, strnlen(sb.s_volume_name, sizeof sb.s_volume_name)));
    g.uuid = uuid_text(std::as_bytes(std::span(sb.s_uuid)));
    return g;
}

}  // namespace dredger::ext

#include "filesystems/ext/groups.h"

#include <algorithm>
#include <fmt/format.h>

namespace dredger::ext {
namespace {

struct GroupDescriptor {
    little_uint32_t bg_block_bitmap_lo;
    little_uint32_t bg_inode_bitmap_lo;
    little_uint32_t bg_inode_table_lo;
    little_uint16_t bg_free_blocks_count_lo;
    little_uint16_t bg_free_inodes_count_lo;
    little_uint16_t bg_used_dirs_count_lo;
    little_uint16_t bg_flags;
    little_uint32_t bg_exclude_bitmap_lo;
    little_uint16_t bg_block_bitmap_csum_lo;
    little_uint16_t bg_inode_bitmap_csum_lo;
    little_uint16_t bg_itable_unused_lo;
    little_uint16_t bg_checksum;
};
struct WideGroupDescriptor : GroupDescriptor {
    little_uint32_t bg_block_bitmap_hi;
    little_uint32_t bg_inode_bitmap_hi;
    little_uint32_t bg_inode_table_hi;
    little_uint16_t bg_free_blocks_count_hi;
    little_uint16_t bg_free_inodes_count_hi;
    little_uint16_t bg_used_dirs_count_hi;
    little_uint16_t bg_itable_unused_hi;
};

std::uint64_t table_blocks(const Geometry& g) { return divide_up(g.inodes_per_group * g.inode_size, g.block_size); }

std::optional<Group> parse(ByteView bytes, const Geometry& g) {
    const auto low = bytes.as<GroupDescriptor>(0);
    if (!low) return std::nullopt;
    Group group{low->bg_block_bitmap_lo, low->bg_inode_bitmap_lo, low->bg_inode_table_lo, low->bg_itable_unused_lo,
                low->bg_flags};
    if (const auto wide = bytes.as<WideGroupDescriptor>(0); wide && (g.incompat & INCOMPAT_64BIT) != 0) {
        group.block_bitmap |= std::uint64_t{wide->bg_block_bitmap_hi} << 32U;
        group.inode_bitmap |= std::uint64_t{wide->bg_inode_bitmap_hi} << 32U;
        group.inode_table |= std::uint64_t{wide->bg_inode_table_hi} << 32U;
        group.unused_inodes |= std::uint32_t{wide->bg_itable_unused_hi} << 16U;
    }
    // Without checksums of the descriptors nothing says which inodes were never in use.
    if ((g.ro_compat & (RO_COMPAT_GDT_CSUM | RO_COMPAT_METADATA_CSUM)) == 0) group.unused_inodes = group.flags = 0;
    const bool fits = g.holds(group.block_bitmap) && g.holds(group.inode_bitmap) && g.holds(group.inode_table) &&
                      group.block_bitmap != group.inode_bitmap && group.inode_bitmap != group.inode_table &&
                      lies_within(group.inode_table, table_blocks(g), g.blocks) &&
                      group.unused_inodes <= g.inodes_per_group;
    return fits ? std::optional(group) : std::nullopt;
}

// Where the block with this part of the descriptors stands beside the superblock of `group`. With meta_bg, each block
// of them stands in the groups that it describes: in the first, the second and the last.
std::optional<std::uint64_t> descriptor_block(const Geometry& g, std::uint64_t part, unsigned copy) {
    const std::uint64_t per_block = g.block_size / g.descriptor_size;
    if ((g.incompat & INCOMPAT_META_BG) != 0 && part >= g.first_meta_group) {
        constexpr unsigned kCopies = 3;
        if (copy >= kCopies) return std::nullopt;
        const std::uint64_t group = part * per_block + (copy == 0 ? 0 : copy == 1 ? 1 : per_block - 1);
        return g.first_block_of(group) + (g.has_superblock(group) ? 1 : 0);
    }
    std::uint64_t group = 0;
    for (unsigned seen = 0; seen < copy && group + 1 < g.groups;)
        if (g.has_superblock(++group)) ++seen;
    if (copy > 0 && (group == 0 || !g.has_superblock(group))) return std::nullopt;
    return g.first_block_of(group) + g.superblock_at(group) + 1 + part;
}

}  // namespace

Groups Groups::read(const Medium& volume, const Geometry& g, std::vector<std::string>& warnings) {
    constexpr unsigned kMaxCopies = 8;
    Groups read(g);
    const std::uint64_t per_block = g.block_size / g.descriptor_size;
    std::uint64_t from_copies = 0, unknown = 0;
    for (std::uint64_t part = 0; part * per_block < g.groups; ++part) {
        const std::uint64_t count = std::min(per_block, g.groups - part * per_block);
        std::vector<std::optional<Group>> found(static_cast<std::size_t>(count));
        for (unsigned copy = 0; copy < kMaxCopies; ++copy) {
            const auto block = descriptor_block(g, part, copy);
            if (!block) continue;
            const auto bytes = volume.bytes(*block * g.block_size, static_cast<std::size_t>(g.block_size));
            bool complete = true;
            for (std::size_t i = 0; i < found.size(); ++i) {
                if (!found[i] && bytes) {
                    found[i] = parse(ByteView(std::span(*bytes).subspan(i * g.descriptor_size, g.descriptor_size)), g);
                    if (found[i] && copy > 0) ++from_copies;
                }
                complete = complete && found[i];
            }
            // A volume that was cut short has none of the copies behind its end either.
            if (complete || (copy == 1 && *block * g.block_size >= volume.size())) break;
        }
        for (const auto& group : found) {
            unknown += group ? 0 : 1;
            read.groups_.push_back(group.value_or(Group{}));
        }
    }
    if (from_copies > 0)
        warnings.push_back(
            fmt::format("the descriptors of {} block groups are damaged; their copies are used", from_copies));
    if (unknown > 0)
        warnings.push_back(
            fmt::format("the descriptors of {} block groups are damaged: the inodes there are missing", unknown));
    read.index_tables();
    return read;
}

void Groups::index_tables() {
    for (std::size_t group = 0; group < groups_.size(); ++group)
        if (groups_[group].inode_table != 0) tables_.emplace_back(groups_[group].inode_table, group);
    std::sort(tables_.begin(), tables_.end());
}

std::optional<std::uint64_t> Groups::place_of(std::uint32_t inode) const {
    if (inode == 0 || inode > geometry_.inodes) return std::nullopt;
    const std::uint64_t group = (inode - 1) / geometry_.inodes_per_group;
    if (group >= groups_.size() || groups_[static_cast<std::size_t>(group)].inode_table == 0) return std::nullopt;
    return groups_[static_cast<std::size_t>(group)].inode_table * geometry_.block_size +
           (inode - 1) % geometry_.inodes_per_group * geometry_.inode_size;
}

std::optional<std::uint32_t> Groups::first_inode_in(std::uint64_t block) const {
    const auto behind = std::upper_bound(tables_.begin(), tables_.end(), std::pair(block, ~std::uint64_t{0}));
    if (behind == tables_.begin()) return std::nullopt;
    const auto [first, group] = *std::prev(behind);
    const std::uint64_t index = (block - first) * (geometry_.block_size / geometry_.inode_size);
    if (index >= geometry_.inodes_per_group) return std::nullopt;
    const std::uint64_t inode = group * geometry_.inodes_per_group + index + 1;
    return inode <= geometry_.inodes ? std::optional(static_cast<std::uint32_t>(inode)) : std::nullopt;
}

std::uint64_t Groups::used_inodes(std::uint64_t group) const {
    const Group& g = groups_[static_cast<std::size_t>(group)];
    if (g.inode_table == 0 || (g.flags & kInodesUninitialised) != 0) return 0;
    return geometry_.inodes_per_group - g.unused_inodes;
}

void Groups::take_structures(SpaceMap& map) const {
    const std::uint64_t blocks_per_cluster = geometry_.cluster_size / geometry_.block_size;
    const auto take = [&](std::uint64_t block, std::uint64_t count) {
        for (std::uint64_t at = block; at < block + count; ++at)
            if (at / blocks_per_cluster < map.units()) map.take(at / blocks_per_cluster);
    };
    const std::uint64_t descriptor_blocks =
        divide_up(geometry_.groups * geometry_.descriptor_size, geometry_.block_size);
    const bool has_meta_groups = (geometry_.incompat & INCOMPAT_META_BG) != 0;
    for (std::size_t i = 0; i < groups_.size(); ++i) {
        if (geometry_.has_superblock(i))
            take(geometry_.first_block_of(i),
                 geometry_.superblock_at(i) + 1 + (has_meta_groups ? 1 : descriptor_blocks));
        if (groups_[i].inode_table == 0) continue;
        take(groups_[i].block_bitmap, 1);
        take(groups_[i].inode_bitmap, 1);
        take(groups_[i].inode_table, table_blocks(geometry_));
    }
    take(0, geometry_.first_data_block);
}

SpaceMap Groups::space(const Medium& volume, bool& whole) const {
    const std::uint64_t blocks = std::min(geometry_.blocks, divide_up(volume.size(), geometry_.block_size));
    const std::uint64_t blocks_per_cluster = geometry_.cluster_size / geometry_.block_size;
    SpaceMap map(0, geometry_.cluster_size, divide_up(blocks, blocks_per_cluster));
    whole = true;
    const std::uint64_t bits = geometry_.blocks_per_group / blocks_per_cluster;
    std::vector<std::byte> bitmap(static_cast<std::size_t>(divide_up(bits, 8)));
    for (std::size_t i = 0; i < groups_.size(); ++i) {
        const Group& group = groups_[i];
        if ((group.flags & kBlocksUninitialised) != 0) continue;
        std::vector<Extent> bad;
        if (group.block_bitmap == 0 || !volume.read(group.block_bitmap * geometry_.block_size, bitmap, &bad) ||
            !bad.empty()) {
            whole = false;
            continue;
        }
        map.take_bits(geometry_.first_block_of(i) / blocks_per_cluster, bitmap);
    }
    take_structures(map);
    return map;
}

}  // namespace dredger::ext

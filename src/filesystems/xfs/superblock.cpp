#include "filesystems/xfs/superblock.h"

#include <bit>

#include "base/text.h"

namespace dredger::xfs {

std::optional<Geometry> parse_superblock(ByteView sector) {
    const auto sb = sector.as<SuperBlock>(0);
    if (!sb || !sector.has(0, "XFSB")) return std::nullopt;
    const unsigned version = sb->sb_versionnum & 0xFU;
    Geometry g;
    g.block_size = sb->sb_blocksize;
    g.sector_size = sb->sb_sectsize;
    g.inode_size = sb->sb_inodesize;
    g.blocks = sb->sb_dblocks;
    g.group_blocks = sb->sb_agblocks;
    g.groups = sb->sb_agcount;
    g.block_bits = sb->sb_agblklog;
    g.inode_bits = sb->sb_inopblog;
    const bool sizes_fit = std::has_single_bit(g.block_size) && g.block_size >= 512 && g.block_size <= 65'536 &&
                           std::has_single_bit(g.sector_size) && g.sector_size >= 512 && g.sector_size <= 32'768 &&
                           std::has_single_bit(g.inode_size) && g.inode_size >= 256 && g.inode_size <= 2048 &&
                           g.inode_size <= g.block_size && sb->sb_dirblklog <= 7;
    if ((version != 4 && version != 5) || !sizes_fit) return std::nullopt;
    const bool groups_fit = g.group_blocks >= 16 && g.groups > 0 && g.block_bits < 32 && g.inode_bits <= 8 &&
                            (std::uint64_t{1} << g.block_bits) >= g.group_blocks &&
                            std::uint64_t{g.block_size} >> g.inode_bits == g.inode_size &&
                            g.blocks <= std::uint64_t{g.group_blocks} * g.groups && g.blocks < std::uint64_t{1} << 47 &&
                            g.blocks > std::uint64_t{g.group_blocks} * (g.groups - 1);
    if (!groups_fit) return std::nullopt;
    g.has_checksums = version == 5;
    g.has_types = g.has_checksums ? (sb->sb_features_incompat & XFS_SB_FEAT_INCOMPAT_FTYPE) != 0
                                  : (sb->sb_features2 & XFS_SB_VERSION2_FTYPE) != 0;
    g.has_sparse_inodes = g.has_checksums && (sb->sb_features_incompat & XFS_SB_FEAT_INCOMPAT_SPINODES) != 0;
    g.directory_block_size = std::uint64_t{g.block_size} << sb->sb_dirblklog;
    if (g.directory_block_size > 65'536) return std::nullopt;
    g.log_start = sb->sb_logstart;
    g.log_blocks = sb->sb_logblocks;
    g.root_inode = sb->sb_rootino;
    g.chunk_alignment = std::max<std::uint32_t>(1, sb->sb_inoalignmt);
    std::copy(std::begin(sb->sb_uuid), std::end(sb->sb_uuid), g.uuid.begin());
    const std::string label(sb->sb_fname, sizeof sb->sb_fname);
    g.label = printable(label.substr(0, label.find('\0')));
    return g;
}

}  // namespace dredger::xfs

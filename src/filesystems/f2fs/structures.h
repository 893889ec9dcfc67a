// On-disk structures of F2FS. Multi-byte integers are little-endian. Source: include/linux/f2fs_fs.h and
// Documentation/filesystems/f2fs.rst of the Linux kernel.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::f2fs {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

inline constexpr std::uint32_t kBlock = 4096;         // bytes; the only size that is written
inline constexpr std::uint64_t kSuperBlockAt = 1024;  // bytes, in each of the first two blocks

// f2fs_super_block, as far as it is read here.
struct SuperBlock {
    little_uint32_t magic;  // 0xF2F52010
    little_uint16_t major_ver;
    little_uint16_t minor_ver;
    little_uint32_t log_sectorsize;
    little_uint32_t log_sectors_per_block;
    little_uint32_t log_blocksize;
    little_uint32_t log_blocks_per_seg;
    little_uint32_t segs_per_sec;
    little_uint32_t secs_per_zone;
    little_uint32_t checksum_offset;
    little_uint64_t block_count;
    little_uint32_t section_count;
    little_uint32_t segment_count;
    little_uint32_t segment_count_ckpt;
    little_uint32_t segment_count_sit;
    little_uint32_t segment_count_nat;
    little_uint32_t segment_count_ssa;
    little_uint32_t segment_count_main;
    little_uint32_t segment0_blkaddr;
    little_uint32_t cp_blkaddr;
    little_uint32_t sit_blkaddr;
    little_uint32_t nat_blkaddr;
    little_uint32_t ssa_blkaddr;
    little_uint32_t main_blkaddr;
    little_uint32_t root_ino;
    little_uint32_t node_ino;
    little_uint32_t meta_ino;
    std::byte uuid[16];
    std::byte volume_name[1024];  // UTF-16
    little_uint32_t extension_count;
    std::byte extension_list[64][8];
    little_uint32_t cp_payload;
    std::byte version[256];
    std::byte init_version[256];
    little_uint32_t feature;
};
static_assert(sizeof(SuperBlock) == 2184);

enum Feature : std::uint32_t { EXTRA_ATTR = 0x8, FLEXIBLE_INLINE_XATTR = 0x40, INODE_CRTIME = 0x100 };

// f2fs_checkpoint, without the bitmaps behind it.
struct CheckpointHead {
    little_uint64_t checkpoint_ver;
    little_uint64_t user_block_count;
    little_uint64_t valid_block_count;
    little_uint32_t rsvd_segment_count;
    little_uint32_t overprov_segment_count;
    little_uint32_t free_segment_count;
    little_uint32_t cur_node_segno[8];
    little_uint16_t cur_node_blkoff[8];
    little_uint32_t cur_data_segno[8];
    little_uint16_t cur_data_blkoff[8];
    little_uint32_t ckpt_flags;
    little_uint32_t cp_pack_total_block_count;
    little_uint32_t cp_pack_start_sum;
    little_uint32_t valid_node_count;
    little_uint32_t valid_inode_count;
    little_uint32_t next_free_nid;
    little_uint32_t sit_ver_bitmap_bytesize;
    little_uint32_t nat_ver_bitmap_bytesize;
    little_uint32_t checksum_offset;
    little_uint64_t elapsed_time;
    std::byte alloc_type[16];
};
static_assert(sizeof(CheckpointHead) == 192);

enum CheckpointFlag : std::uint32_t {
    CP_UMOUNT_FLAG = 0x1,
    CP_COMPACT_SUM_FLAG = 0x4,
    CP_LARGE_NAT_BITMAP_FLAG = 0x400
};

// f2fs_nat_entry: where a node lies.
struct NatEntry {
    std::uint8_t version;
    little_uint32_t ino;
    little_uint32_t block_addr;
};
static_assert(sizeof(NatEntry) == 9);
inline constexpr std::uint32_t kNatEntriesPerBlock = kBlock / sizeof(NatEntry);

// f2fs_sit_entry: which blocks of a segment are in use.
struct SitEntry {
    little_uint16_t vblocks;  // the upper six bits are the segment's type
    std::byte valid_map[64];  // the highest bit of a byte is its first block
    little_uint64_t mtime;
};
static_assert(sizeof(SitEntry) == 74);
inline constexpr std::uint32_t kSitEntriesPerBlock = kBlock / sizeof(SitEntry);

// A journal within a summary block: the newest entries, which the tables do not have yet.
struct NatJournalEntry {
    little_uint32_t nid;
    NatEntry ne;
};
struct SitJournalEntry {
    little_uint32_t segno;
    SitEntry se;
};
inline constexpr std::uint32_t kSummaryEntries = 512 * 7;  // bytes, in front of a summary block's journal
inline constexpr std::uint32_t kSummaryJournal = 507;      // bytes
inline constexpr std::uint32_t kSummaryFooterAt = kSummaryEntries + kSummaryJournal;
enum SummaryType : std::uint8_t { SUM_TYPE_DATA = 0, SUM_TYPE_NODE = 1 };

// node_footer, at the end of each node block.
struct NodeFooter {
    little_uint32_t nid;
    little_uint32_t ino;
    little_uint32_t flag;  // from bit 3 on: which of the file's nodes it is
    little_uint64_t cp_ver;
    little_uint32_t next_blkaddr;
};
static_assert(sizeof(NodeFooter) == 24);
inline constexpr std::uint32_t kFooterAt = kBlock - sizeof(NodeFooter);

// f2fs_inode up to the union of attributes and addresses.
struct InodeHead {
    little_uint16_t i_mode;
    std::uint8_t i_advise;
    std::uint8_t i_inline;
    little_uint32_t i_uid;
    little_uint32_t i_gid;
    little_uint32_t i_links;
    little_uint64_t i_size;
    little_uint64_t i_blocks;
    little_uint64_t i_atime;
    little_uint64_t i_ctime;
    little_uint64_t i_mtime;
    little_uint32_t i_atime_nsec;
    little_uint32_t i_ctime_nsec;
    little_uint32_t i_mtime_nsec;
    little_uint32_t i_generation;
    little_uint32_t i_current_depth;
    little_uint32_t i_xattr_nid;
    little_uint32_t i_flags;
    little_uint32_t i_pino;
    little_uint32_t i_namelen;
    std::byte i_name[255];
    std::uint8_t i_dir_level;
    std::byte i_ext[12];
};
static_assert(sizeof(InodeHead) == 360);

// The extra attributes in front of the addresses.
struct InodeExtra {
    little_uint16_t i_extra_isize;
    little_uint16_t i_inline_xattr_size;  // in addresses
    little_uint32_t i_projid;
    little_uint32_t i_inode_checksum;
    little_uint64_t i_crtime;
    little_uint32_t i_crtime_nsec;
};
static_assert(sizeof(InodeExtra) == 24);

enum Inline : std::uint8_t {
    F2FS_INLINE_XATTR = 0x01,
    F2FS_INLINE_DATA = 0x02,
    F2FS_INLINE_DENTRY = 0x04,
    F2FS_EXTRA_ATTR = 0x20
};
enum Advise : std::uint8_t { FADVISE_LOST_PINO = 0x02, FADVISE_ENCRYPT = 0x04 };

inline constexpr std::uint32_t kAddressesPerInode = 923, kAddressesPerNode = 1018, kInlineXattrAddresses = 50;
inline constexpr std::uint32_t kNodeIdsAt = sizeof(InodeHead) + kAddressesPerInode * 4;  // i_nid[5]
inline constexpr std::uint32_t NULL_ADDR = 0, NEW_ADDR = 0xFFFFFFFF, COMPRESS_ADDR = 0xFFFFFFFE;

// f2fs_dir_entry; the name stands in one or more slots of eight bytes.
struct DirectoryEntryHead {
    little_uint32_t hash_code;
    little_uint32_t ino;
    little_uint16_t name_len;
    std::uint8_t file_type;
};
static_assert(sizeof(DirectoryEntryHead) == 11);
inline constexpr std::uint32_t kSlot = 8;  // bytes of a name
inline constexpr std::uint32_t kEntriesPerBlock = 214;

}  // namespace dredger::f2fs

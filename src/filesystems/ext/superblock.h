// The superblock of ext2, ext3 and ext4, and what follows from it for the whole volume.
// Source: the Linux kernel's Documentation/filesystems/ext4, "Super Block" and "Special inodes".
#pragma once

#include <cstddef>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "base/crc32c.h"

namespace dredger::ext {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

struct SuperBlock {
    little_uint32_t s_inodes_count;
    little_uint32_t s_blocks_count_lo;
    little_uint32_t s_r_blocks_count_lo;
    little_uint32_t s_free_blocks_count_lo;
    little_uint32_t s_free_inodes_count;
    little_uint32_t s_first_data_block;
    little_uint32_t s_log_block_size;
    little_uint32_t s_log_cluster_size;
    little_uint32_t s_blocks_per_group;
    little_uint32_t s_clusters_per_group;
    little_uint32_t s_inodes_per_group;
    little_uint32_t s_mtime;
    little_uint32_t s_wtime;
    little_uint16_t s_mnt_count;
    little_uint16_t s_max_mnt_count;
    little_uint16_t s_magic;
    little_uint16_t s_state;
    little_uint16_t s_errors;
    little_uint16_t s_minor_rev_level;
    little_uint32_t s_lastcheck;
    little_uint32_t s_checkinterval;
    little_uint32_t s_creator_os;
    little_uint32_t s_rev_level;
    little_uint16_t s_def_resuid;
    little_uint16_t s_def_resgid;
    little_uint32_t s_first_ino;
    little_uint16_t s_inode_size;
    little_uint16_t s_block_group_nr;
    little_uint32_t s_feature_compat;
    little_uint32_t s_feature_incompat;
    little_uint32_t s_feature_ro_compat;
    std::uint8_t s_uuid[16];
    char s_volume_name[16];
    char s_last_mounted[64];
    little_uint32_t s_algorithm_usage_bitmap;
    std::uint8_t s_prealloc_blocks;
    std::uint8_t s_prealloc_dir_blocks;
    little_uint16_t s_reserved_gdt_blocks;
    std::uint8_t s_journal_uuid[16];
    little_uint32_t s_journal_inum;
    little_uint32_t s_journal_dev;
    little_uint32_t s_last_orphan;
    little_uint32_t s_hash_seed[4];
    std::uint8_t s_def_hash_version;
    std::uint8_t s_jnl_backup_type;
    little_uint16_t s_desc_size;
    little_uint32_t s_default_mount_opts;
    little_uint32_t s_first_meta_bg;
    little_uint32_t s_mkfs_time;
    little_uint32_t s_jnl_blocks[17];
    little_uint32_t s_blocks_count_hi;
    little_uint32_t s_r_blocks_count_hi;
    little_uint32_t s_free_blocks_count_hi;
    little_uint16_t s_min_extra_isize;
    little_uint16_t s_want_extra_isize;
    little_uint32_t s_flags;
    little_uint16_t s_raid_stride;
    little_uint16_t s_mmp_interval;
    little_uint64_t s_mmp_block;
    little_uint32_t s_raid_stripe_width;
    std::uint8_t s_log_groups_per_flex;
    std::uint8_t s_checksum_type;
    little_uint16_t s_reserved_pad;
    little_uint64_t s_kbytes_written;
    little_uint32_t s_snapshot_inum;
    little_uint32_t s_snapshot_id;
    little_uint64_t s_snapshot_r_blocks_count;
    little_uint32_t s_snapshot_list;
    std::uint8_t s_error_information[108];  // from s_error_count to s_last_error_func
    char s_mount_opts[64];
    little_uint32_t s_usr_quota_inum;
    little_uint32_t s_grp_quota_inum;
    little_uint32_t s_overhead_blocks;
    little_uint32_t s_backup_bgs[2];
    std::uint8_t s_encrypt_algos[4];
    std::uint8_t s_encrypt_pw_salt[16];
    little_uint32_t s_lpf_ino;
    little_uint32_t s_prj_quota_inum;
    little_uint32_t s_checksum_seed;
    std::uint8_t s_reserved[392];
    little_uint32_t s_checksum;
};
static_assert(sizeof(SuperBlock) == 1024 && offsetof(SuperBlock, s_checksum_seed) == 0x270);

inline constexpr std::uint64_t kSuperBlockOffset = 1024;  // bytes, of the first one

// s_feature_compat, s_feature_incompat, s_feature_ro_compat
inline constexpr std::uint32_t COMPAT_HAS_JOURNAL = 0x4, COMPAT_SPARSE_SUPER2 = 0x200;
inline constexpr std::uint32_t INCOMPAT_RECOVER = 0x4, INCOMPAT_JOURNAL_DEV = 0x8, INCOMPAT_META_BG = 0x10,
                               INCOMPAT_EXTENTS = 0x40, INCOMPAT_64BIT = 0x80, INCOMPAT_FLEX_BG = 0x200,
                               INCOMPAT_CSUM_SEED = 0x2000, INCOMPAT_INLINE_DATA = 0x8000;
inline constexpr std::uint32_t RO_COMPAT_SPARSE_SUPER = 0x1, RO_COMPAT_HUGE_FILE = 0x8, RO_COMPAT_GDT_CSUM = 0x10,
                               RO_COMPAT_BIGALLOC = 0x200, RO_COMPAT_METADATA_CSUM = 0x400;

// s_state
inline constexpr std::uint16_t kCleanlyUnmounted = 0x1;

// Inodes with a meaning of their own.
inline constexpr std::uint32_t kRootInode = 2, kJournalInode = 8;

struct Geometry {
    std::string filesystem;  // "ext4"
    std::string label;
    std::string uuid;
    std::uint64_t block_size = 0;    // bytes, 1 KiB to 64 KiB
    std::uint64_t cluster_size = 0;  // bytes; the block size, but with bigalloc
    std::uint64_t blocks = 0;        // of the volume, more than first_data_block
    std::uint64_t first_data_block = 0;
    std::uint64_t blocks_per_group = 0;
    std::uint64_t inodes_per_group = 0;
    std::uint64_t groups = 0;
    std::uint32_t inodes = 0;
    std::size_t inode_size = 0;       // bytes, 128 to the block size
    std::size_t descriptor_size = 0;  // bytes, 32 to 1024
    std::uint64_t first_meta_group = 0;
    std::uint32_t first_inode = 11;  // that can belong to a file
    std::uint32_t journal_inode = 0;
    std::uint32_t compat = 0, incompat = 0, ro_compat = 0;
    std::uint32_t backup_groups[2] = {0, 0};  // with sparse_super2
    bool clean = true;
    Crc32c seed;  // of all checksums, where there are any

    bool has_checksums() const { return (ro_compat & RO_COMPAT_METADATA_CSUM) != 0; }
    bool has_extents() const { return (incompat & INCOMPAT_EXTENTS) != 0; }
    bool needs_recovery() const { return (incompat & INCOMPAT_RECOVER) != 0; }
    std::uint64_t size() const { return blocks * block_size; }  // bytes
    std::uint64_t first_block_of(std::uint64_t group) const { return first_data_block + group * blocks_per_group; }
    // Whether a copy of the superblock and of the group descriptors stands at the start of this group.
    bool has_superblock(std::uint64_t group) const;
    // In which block of its group it stands: the first one, but where 1 KiB blocks begin with one before it.
    std::uint64_t superblock_at(std::uint64_t group) const {
        return group == 0 && block_size == 1024 && first_data_block == 0 ? 1 : 0;
    }
    bool holds(std::uint64_t block) const { return block >= first_data_block && block < blocks; }
};

// From the superblock that `sector` (1024 bytes) holds; none where there is none or it makes no sense. `group`: the one
// that it must say it stands in.
std::optional<Geometry> parse_superblock(ByteView sector, std::uint64_t group);

}  // namespace dredger::ext

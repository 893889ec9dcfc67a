// On-disk structures of APFS. All integers are little-endian.
// Source: Apple, "Apple File System Reference" (2020-06-22).
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::apfs {

using boost::endian::little_int32_t;
using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

// ---- objects

struct ObjPhys {
    std::uint8_t o_cksum[8];  // Fletcher-64 of all behind it
    little_uint64_t o_oid;
    little_uint64_t o_xid;
    little_uint32_t o_type;
    little_uint32_t o_subtype;
};
static_assert(sizeof(ObjPhys) == 32);

inline constexpr std::uint32_t OBJECT_TYPE_MASK = 0xFFFF;
inline constexpr std::uint32_t OBJECT_TYPE_NX_SUPERBLOCK = 1, OBJECT_TYPE_BTREE = 2, OBJECT_TYPE_BTREE_NODE = 3,
                               OBJECT_TYPE_SPACEMAN = 5, OBJECT_TYPE_SPACEMAN_CAB = 6, OBJECT_TYPE_SPACEMAN_CIB = 7,
                               OBJECT_TYPE_SPACEMAN_FREE_QUEUE = 9, OBJECT_TYPE_OMAP = 0xB,
                               OBJECT_TYPE_CHECKPOINT_MAP = 0xC, OBJECT_TYPE_FS = 0xD, OBJECT_TYPE_FSTREE = 0xE,
                               OBJECT_TYPE_SNAPMETATREE = 0x10;

// ---- the container

inline constexpr std::size_t kMaxFileSystems = 100;

struct NxSuperblock {
    ObjPhys nx_o;
    char nx_magic[4];  // "NXSB"
    little_uint32_t nx_block_size;
    little_uint64_t nx_block_count;
    little_uint64_t nx_features;
    little_uint64_t nx_readonly_compatible_features;
    little_uint64_t nx_incompatible_features;
    std::uint8_t nx_uuid[16];
    little_uint64_t nx_next_oid;
    little_uint64_t nx_next_xid;
    little_uint32_t nx_xp_desc_blocks;
    little_uint32_t nx_xp_data_blocks;
    little_uint64_t nx_xp_desc_base;
    little_uint64_t nx_xp_data_base;
    little_uint32_t nx_xp_desc_next;
    little_uint32_t nx_xp_data_next;
    little_uint32_t nx_xp_desc_index;
    little_uint32_t nx_xp_desc_len;
    little_uint32_t nx_xp_data_index;
    little_uint32_t nx_xp_data_len;
    little_uint64_t nx_spaceman_oid;
    little_uint64_t nx_omap_oid;
    little_uint64_t nx_reaper_oid;
    little_uint32_t nx_test_type;
    little_uint32_t nx_max_file_systems;
    little_uint64_t nx_fs_oid[kMaxFileSystems];
};
static_assert(offsetof(NxSuperblock, nx_fs_oid) == 184);
inline constexpr std::uint64_t NX_INCOMPAT_FUSION = 0x100;
inline constexpr std::uint32_t kNotContiguous = 0x80000000;  // of nx_xp_desc_blocks

struct CheckpointMapPhys {
    ObjPhys cpm_o;
    little_uint32_t cpm_flags;
    little_uint32_t cpm_count;
};
struct CheckpointMapping {
    little_uint32_t cpm_type;
    little_uint32_t cpm_subtype;
    little_uint32_t cpm_size;
    little_uint32_t cpm_pad;
    little_uint64_t cpm_fs_oid;
    little_uint64_t cpm_oid;
    little_uint64_t cpm_paddr;
};
static_assert(sizeof(CheckpointMapPhys) == 40 && sizeof(CheckpointMapping) == 40);

// ---- which space is in use

struct SpacemanDevice {
    little_uint64_t sm_block_count;
    little_uint64_t sm_chunk_count;
    little_uint32_t sm_cib_count;
    little_uint32_t sm_cab_count;
    little_uint64_t sm_free_count;
    little_uint32_t sm_addr_offset;
    little_uint32_t sm_reserved;
    little_uint64_t sm_reserved2;
};
static_assert(sizeof(SpacemanDevice) == 48);

struct SpacemanFreeQueue {
    little_uint64_t sfq_count;
    little_uint64_t sfq_tree_oid;
    little_uint64_t sfq_oldest_xid;
    little_uint16_t sfq_tree_node_limit;
    little_uint16_t sfq_pad16;
    little_uint32_t sfq_pad32;
    little_uint64_t sfq_reserved;
};
static_assert(sizeof(SpacemanFreeQueue) == 40);

struct SpacemanPhys {
    ObjPhys sm_o;
    little_uint32_t sm_block_size;
    little_uint32_t sm_blocks_per_chunk;
    little_uint32_t sm_chunks_per_cib;
    little_uint32_t sm_cibs_per_cab;
    SpacemanDevice sm_dev[2];
    little_uint32_t sm_flags;
    little_uint32_t sm_ip_bm_tx_multiplier;
    little_uint64_t sm_ip_block_count;
    little_uint32_t sm_ip_bm_size_in_blocks;
    little_uint32_t sm_ip_bm_block_count;
    little_uint64_t sm_ip_bm_base;
    little_uint64_t sm_ip_base;
    little_uint64_t sm_fs_reserve_block_count;
    little_uint64_t sm_fs_reserve_alloc_count;
    SpacemanFreeQueue sm_fq[3];
};
static_assert(offsetof(SpacemanPhys, sm_flags) == 144);

struct ChunkInfo {
    little_uint64_t ci_xid;
    little_uint64_t ci_addr;
    little_uint32_t ci_block_count;
    little_uint32_t ci_free_count;
    little_uint64_t ci_bitmap_addr;  // 0: all of it is free
};
static_assert(sizeof(ChunkInfo) == 32);

// Of blocks of ChunkInfo (cib), and of blocks of their addresses (cab).
struct SpacemanBlockHead {
    ObjPhys o;
    little_uint32_t index;
    little_uint32_t count;
};
static_assert(sizeof(SpacemanBlockHead) == 40);

struct SpacemanFreeQueueKey {
    little_uint64_t sfqk_xid;
    little_uint64_t sfqk_paddr;
};

// ---- object maps

struct OmapPhys {
    ObjPhys om_o;
    little_uint32_t om_flags;
    little_uint32_t om_snap_count;
    little_uint32_t om_tree_type;
    little_uint32_t om_snapshot_tree_type;
    little_uint64_t om_tree_oid;
    little_uint64_t om_snapshot_tree_oid;
};
static_assert(sizeof(OmapPhys) == 64);

struct OmapKey {
    little_uint64_t ok_oid;
    little_uint64_t ok_xid;
};
struct OmapVal {
    little_uint32_t ov_flags;
    little_uint32_t ov_size;
    little_uint64_t ov_paddr;
};
inline constexpr std::uint32_t OMAP_VAL_DELETED = 1, OMAP_VAL_ENCRYPTED = 4, OMAP_VAL_NOHEADER = 8;

// ---- B-trees

struct Nloc {
    little_uint16_t off;
    little_uint16_t len;
};

struct BtreeNodePhys {
    ObjPhys btn_o;
    little_uint16_t btn_flags;
    little_uint16_t btn_level;
    little_uint32_t btn_nkeys;
    Nloc btn_table_space;
    Nloc btn_free_space;
    Nloc btn_key_free_list;
    Nloc btn_val_free_list;
};
static_assert(sizeof(BtreeNodePhys) == 56);
inline constexpr std::uint16_t BTNODE_ROOT = 1, BTNODE_LEAF = 2, BTNODE_FIXED_KV_SIZE = 4;

struct KvOff {
    little_uint16_t k;
    little_uint16_t v;
};
struct KvLoc {
    Nloc k;
    Nloc v;
};

struct BtreeInfo {
    little_uint32_t bt_flags;
    little_uint32_t bt_node_size;
    little_uint32_t bt_key_size;
    little_uint32_t bt_val_size;
    little_uint32_t bt_longest_key;
    little_uint32_t bt_longest_val;
    little_uint64_t bt_key_count;
    little_uint64_t bt_node_count;
};
static_assert(sizeof(BtreeInfo) == 40);

// ---- volumes

struct ApfsSuperblock {
    ObjPhys apfs_o;
    char apfs_magic[4];  // "APSB"
    little_uint32_t apfs_fs_index;
    little_uint64_t apfs_features;
    little_uint64_t apfs_readonly_compatible_features;
    little_uint64_t apfs_incompatible_features;
    little_uint64_t apfs_unmount_time;
    little_uint64_t apfs_fs_reserve_block_count;
    little_uint64_t apfs_fs_quota_block_count;
    little_uint64_t apfs_fs_alloc_count;
    std::uint8_t apfs_meta_crypto[20];
    little_uint32_t apfs_root_tree_type;
    little_uint32_t apfs_extentref_tree_type;
    little_uint32_t apfs_snap_meta_tree_type;
    little_uint64_t apfs_omap_oid;
    little_uint64_t apfs_root_tree_oid;
    little_uint64_t apfs_extentref_tree_oid;
    little_uint64_t apfs_snap_meta_tree_oid;
    little_uint64_t apfs_revert_to_xid;
    little_uint64_t apfs_revert_to_sblock_oid;
    little_uint64_t apfs_next_obj_id;
    little_uint64_t apfs_num_files;
    little_uint64_t apfs_num_directories;
    little_uint64_t apfs_num_symlinks;
    little_uint64_t apfs_num_other_fsobjects;
    little_uint64_t apfs_num_snapshots;
    little_uint64_t apfs_total_blocks_alloced;
    little_uint64_t apfs_total_blocks_freed;
    std::uint8_t apfs_vol_uuid[16];
    little_uint64_t apfs_last_mod_time;
    little_uint64_t apfs_fs_flags;
    std::uint8_t apfs_formatted_by[48];
    std::uint8_t apfs_modified_by[8 * 48];
    char apfs_volname[256];
    little_uint32_t apfs_next_doc_id;
    little_uint16_t apfs_role;
};
static_assert(offsetof(ApfsSuperblock, apfs_omap_oid) == 128 && offsetof(ApfsSuperblock, apfs_volname) == 704);
inline constexpr std::uint64_t APFS_FS_UNENCRYPTED = 1;
inline constexpr std::uint64_t APFS_INCOMPAT_CASE_INSENSITIVE = 1, APFS_INCOMPAT_NORMALIZATION_INSENSITIVE = 8;
inline constexpr std::uint16_t APFS_VOL_ROLE_SYSTEM = 1, APFS_VOL_ROLE_USER = 2, APFS_VOL_ROLE_RECOVERY = 4,
                               APFS_VOL_ROLE_VM = 8, APFS_VOL_ROLE_PREBOOT = 0x10, APFS_VOL_ROLE_DATA = 0x40,
                               APFS_VOL_ROLE_UPDATE = 0xC0;

// ---- records of file-system trees

inline constexpr std::uint64_t OBJ_ID_MASK = 0x0FFFFFFFFFFFFFFF;
inline constexpr unsigned OBJ_TYPE_SHIFT = 60;
inline constexpr unsigned APFS_TYPE_SNAP_METADATA = 1, APFS_TYPE_INODE = 3, APFS_TYPE_XATTR = 4,
                          APFS_TYPE_SIBLING_LINK = 5, APFS_TYPE_FILE_EXTENT = 8, APFS_TYPE_DIR_REC = 9;
inline constexpr std::uint64_t ROOT_DIR_PARENT = 1, ROOT_DIR_INO_NUM = 2, PRIV_DIR_INO_NUM = 3, MIN_USER_INO_NUM = 16;

struct JInodeVal {
    little_uint64_t parent_id;
    little_uint64_t private_id;
    little_uint64_t create_time;  // nanoseconds since 1970, UTC, as the others
    little_uint64_t mod_time;
    little_uint64_t change_time;
    little_uint64_t access_time;
    little_uint64_t internal_flags;
    little_int32_t nchildren_or_nlink;
    little_uint32_t default_protection_class;
    little_uint32_t write_generation_counter;
    little_uint32_t bsd_flags;
    little_uint32_t owner;
    little_uint32_t group;
    little_uint16_t mode;
    little_uint16_t pad1;
    little_uint64_t uncompressed_size;
};
static_assert(sizeof(JInodeVal) == 92);
inline constexpr std::uint32_t UF_COMPRESSED = 0x20;
inline constexpr std::uint64_t INODE_WAS_CLONED = 0x10, INODE_WAS_EVER_CLONED = 0x400;  // of internal_flags

struct XfBlob {
    little_uint16_t xf_num_exts;
    little_uint16_t xf_used_data;
};
struct XField {
    std::uint8_t x_type;
    std::uint8_t x_flags;
    little_uint16_t x_size;
};
inline constexpr std::uint8_t INO_EXT_TYPE_NAME = 4, INO_EXT_TYPE_FINDER_INFO = 7, INO_EXT_TYPE_DSTREAM = 8,
                              INO_EXT_TYPE_SPARSE_BYTES = 13;

struct JDstream {
    little_uint64_t size;
    little_uint64_t alloced_size;
    little_uint64_t default_crypto_id;
    little_uint64_t total_bytes_written;
    little_uint64_t total_bytes_read;
};
static_assert(sizeof(JDstream) == 40);

struct JDrecVal {
    little_uint64_t file_id;
    little_uint64_t date_added;
    little_uint16_t flags;
};
static_assert(sizeof(JDrecVal) == 18);

struct JFileExtentVal {
    little_uint64_t len_and_flags;
    little_uint64_t phys_block_num;  // 0: a hole
    little_uint64_t crypto_id;
};
inline constexpr std::uint64_t J_FILE_EXTENT_LEN_MASK = 0x00FFFFFFFFFFFFFF;

struct JXattrVal {
    little_uint16_t flags;
    little_uint16_t xdata_len;
};
inline constexpr std::uint16_t XATTR_DATA_STREAM = 1, XATTR_DATA_EMBEDDED = 2;

struct JXattrDstream {
    little_uint64_t xattr_obj_id;
    JDstream dstream;
};

struct JSiblingVal {
    little_uint64_t parent_id;
    little_uint16_t name_len;
};

struct JSnapMetadataVal {
    little_uint64_t extentref_tree_oid;
    little_uint64_t sblock_oid;
    little_uint64_t create_time;
    little_uint64_t change_time;
    little_uint64_t inum;
    little_uint32_t extentref_tree_type;
    little_uint32_t flags;
    little_uint16_t name_len;
};
static_assert(sizeof(JSnapMetadataVal) == 50);

}  // namespace dredger::apfs

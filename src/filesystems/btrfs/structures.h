// On-disk structures of Btrfs. All integers are little-endian.
// Source: the Btrfs documentation, "On-disk Format", and the Linux kernel's include/uapi/linux/btrfs_tree.h.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <compare>
#include <cstddef>
#include <cstdint>

namespace dredger::btrfs {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

inline constexpr std::uint64_t kMirrors[] = {64ULL << 10, 64ULL << 20, 256ULL << 30};  // btrfs_sb_offset()

// Objects and trees.
inline constexpr std::uint64_t ROOT_TREE = 1, EXTENT_TREE = 2, FS_TREE = 5, CSUM_TREE = 7, FIRST_FREE = 256,
                               LAST_FREE = ~std::uint64_t{0} - 255, EXTENT_CSUM = ~std::uint64_t{0} - 9;
// Types of items.
inline constexpr std::uint8_t INODE_ITEM = 1, INODE_REF = 12, INODE_EXTREF = 13, DIR_INDEX = 96, EXTENT_DATA = 108,
                              EXTENT_CSUM_ITEM = 128, ROOT_ITEM = 132, ROOT_BACKREF = 144, EXTENT_ITEM = 168,
                              METADATA_ITEM = 169, CHUNK_ITEM = 228;

// struct btrfs_key, in the order in which trees are sorted.
struct Key {
    std::uint64_t objectid = 0;
    std::uint8_t type = 0;
    std::uint64_t offset = 0;
    auto operator<=>(const Key&) const = default;
};

struct DiskKey {
    little_uint64_t objectid;
    std::uint8_t type;
    little_uint64_t offset;
    Key key() const { return {objectid, type, offset}; }
};
static_assert(sizeof(DiskKey) == 17);

struct SuperBlock {  // up to the label
    std::byte csum[32];
    std::byte fsid[16];
    little_uint64_t bytenr;
    little_uint64_t flags;
    char magic[8];  // "_BHRfS_M"
    little_uint64_t generation;
    little_uint64_t root;
    little_uint64_t chunk_root;
    little_uint64_t log_root;
    little_uint64_t log_root_transid;
    little_uint64_t total_bytes;
    little_uint64_t bytes_used;
    little_uint64_t root_dir_objectid;
    little_uint64_t num_devices;
    little_uint32_t sectorsize;
    little_uint32_t nodesize;
    little_uint32_t leafsize;
    little_uint32_t stripesize;
    little_uint32_t sys_chunk_array_size;
    little_uint64_t chunk_root_generation;
    little_uint64_t compat_flags;
    little_uint64_t compat_ro_flags;
    little_uint64_t incompat_flags;
    little_uint16_t csum_type;  // 0: CRC-32C
    std::uint8_t root_level;
    std::uint8_t chunk_root_level;
    std::uint8_t log_root_level;
    little_uint64_t devid;  // dev_item
    std::byte dev_item_rest[90];
    char label[256];
};
static_assert(sizeof(SuperBlock) == 0x22B);
inline constexpr std::size_t kSystemChunks = 0x32B, kMaxSystemChunks = 2048, kBackupRoots = 0xB2B,
                             kSuperBlockSize = 4096;

struct BackupRoot {  // btrfs_root_backup, from its start; 168 bytes in all
    little_uint64_t tree_root;
    little_uint64_t tree_root_gen;
    little_uint64_t chunk_root;
    little_uint64_t chunk_root_gen;
};
inline constexpr std::size_t kBackupRootSize = 168, kBackupRootCount = 4;

struct Header {
    std::byte csum[32];
    std::byte fsid[16];
    little_uint64_t bytenr;
    little_uint64_t flags;
    std::byte chunk_tree_uuid[16];
    little_uint64_t generation;
    little_uint64_t owner;  // the tree that it was made for
    little_uint32_t nritems;
    std::uint8_t level;
};
static_assert(sizeof(Header) == 101);

struct Item {
    DiskKey key;
    little_uint32_t offset;  // of its data, behind the header
    little_uint32_t size;
};
static_assert(sizeof(Item) == 25);

struct KeyPointer {
    DiskKey key;
    little_uint64_t blockptr;
    little_uint64_t generation;
};
static_assert(sizeof(KeyPointer) == 33);

struct Chunk {  // and a stripe for each place
    little_uint64_t length;
    little_uint64_t owner;
    little_uint64_t stripe_len;
    little_uint64_t type;
    little_uint32_t io_align;
    little_uint32_t io_width;
    little_uint32_t sector_size;
    little_uint16_t num_stripes;
    little_uint16_t sub_stripes;
};
static_assert(sizeof(Chunk) == 48);
struct Stripe {
    little_uint64_t devid;
    little_uint64_t offset;
    std::byte dev_uuid[16];
};
static_assert(sizeof(Stripe) == 32);
inline constexpr std::uint64_t BLOCK_GROUP_SYSTEM = 2, BLOCK_GROUP_METADATA = 4, BLOCK_GROUP_RAID0 = 8,
                               BLOCK_GROUP_RAID10 = 64, BLOCK_GROUP_RAID56 = 128 | 256;

struct Timespec {
    little_uint64_t sec;
    little_uint32_t nsec;
};
struct InodeItem {
    little_uint64_t generation;  // of the transaction that made it
    little_uint64_t transid;
    little_uint64_t size;
    little_uint64_t nbytes;
    little_uint64_t block_group;
    little_uint32_t nlink;
    little_uint32_t uid;
    little_uint32_t gid;
    little_uint32_t mode;
    little_uint64_t rdev;
    little_uint64_t flags;
    little_uint64_t sequence;
    little_uint64_t reserved[4];
    Timespec atime;
    Timespec ctime;
    Timespec mtime;
    Timespec otime;
};
static_assert(sizeof(InodeItem) == 160);

struct FileExtentItem {  // inline data follows it; else the next structure
    little_uint64_t generation;
    little_uint64_t ram_bytes;
    std::uint8_t compression;
    std::uint8_t encryption;
    little_uint16_t other_encoding;
    std::uint8_t type;  // 0 inline, 1 regular, 2 preallocated
};
static_assert(sizeof(FileExtentItem) == 21);
struct FileExtentPlace {
    little_uint64_t disk_bytenr;
    little_uint64_t disk_num_bytes;
    little_uint64_t offset;
    little_uint64_t num_bytes;
};
static_assert(sizeof(FileExtentPlace) == 32);

struct DirItem {
    DiskKey location;
    little_uint64_t transid;
    little_uint16_t data_len;
    little_uint16_t name_len;
    std::uint8_t type;
};
static_assert(sizeof(DirItem) == 30);

struct RootItem {
    InodeItem inode;
    little_uint64_t generation;
    little_uint64_t root_dirid;
    little_uint64_t bytenr;
    little_uint64_t byte_limit;
    little_uint64_t bytes_used;
    little_uint64_t last_snapshot;
    little_uint64_t flags;  // 1: read-only
    little_uint32_t refs;
    DiskKey drop_progress;
    std::uint8_t drop_level;
    std::uint8_t level;
};
static_assert(sizeof(RootItem) == 239);
inline constexpr std::uint64_t ROOT_SUBVOL_RDONLY = 1;

struct RootItemExtension {          // behind it, since Linux 3.6
    little_uint64_t generation_v2;  // another generation than above: an older system wrote last, and left the rest
    std::byte uuid[16];
    std::byte parent_uuid[16];  // zeros: it was not made as a snapshot
    std::byte received_uuid[16];
    little_uint64_t ctransid;
    little_uint64_t otransid;
    little_uint64_t stransid;
    little_uint64_t rtransid;
    Timespec ctime;
    Timespec otime;
    Timespec stime;
    Timespec rtime;
};
static_assert(sizeof(RootItemExtension) == 136);

struct RootRef {  // and its name
    little_uint64_t dirid;
    little_uint64_t sequence;
    little_uint16_t name_len;
};
static_assert(sizeof(RootRef) == 18);

}  // namespace dredger::btrfs

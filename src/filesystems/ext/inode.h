// Inodes of ext2, ext3 and ext4.
// Source: the Linux kernel's Documentation/filesystems/ext4, "Index Nodes", "Inline Data" and "Extended Attributes".
#pragma once

#include <array>
#include <optional>

#include "base/times.h"
#include "filesystems/ext/superblock.h"
#include "media/medium.h"

namespace dredger::ext {

// i_flags
inline constexpr std::uint32_t INDEX_FL = 0x1000, ENCRYPT_FL = 0x800, EXTENTS_FL = 0x80000, EA_INODE_FL = 0x200000,
                               INLINE_DATA_FL = 0x10000000;

struct Inode {
    std::uint32_t number = 0;
    std::uint32_t generation = 0;
    std::uint16_t mode = 0;  // file type and permissions; 0: never in use
    std::uint32_t uid = 0, gid = 0;
    std::uint16_t links = 0;
    std::uint32_t flags = 0;
    std::uint64_t size = 0;       // bytes
    std::uint64_t allocated = 0;  // bytes, with what maps its blocks
    FileTime accessed, changed, modified;
    std::optional<FileTime> created;  // has room in inodes of 256 bytes
    std::uint32_t deleted = 0;        // seconds since 1970; of an orphan the number of the next one
    std::array<std::byte, 60> block{};
    std::uint64_t block_at = 0;  // bytes, where `block` stands
    Extent inline_rest;          // with inline data: what of it does not fit into `block`

    bool is_folder() const { return (mode & 0xF000U) == 0x4000; }
    bool is_file() const { return (mode & 0xF000U) == 0x8000; }
    bool is_symlink() const { return (mode & 0xF000U) == 0xA000; }
    bool is_in_use() const { return mode != 0 && links > 0 && deleted == 0; }
    bool has_inline_data() const { return (flags & INLINE_DATA_FL) != 0; }
    // A link that is short enough stands in `block`.
    bool is_fast_symlink() const { return is_symlink() && size < block.size() && (flags & EXTENTS_FL) == 0; }
    // Whether anything still says where content lies.
    bool has_layout() const;
};

// `bytes`: the whole inode, with its place. None where the bytes make no inode.
std::optional<Inode> parse_inode(ByteView bytes, std::uint32_t number, const Geometry& geometry);

// Whether its checksum is right, or there is none. `seed` begins the checksums of all that belongs to this inode.
bool checksum_agrees(ByteView bytes, std::uint32_t number, const Geometry& geometry);
Crc32c inode_seed(const Geometry& geometry, std::uint32_t number, std::uint32_t generation);

}  // namespace dredger::ext

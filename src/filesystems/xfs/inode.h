// Inodes of XFS, as they stand in the inode chunks and, in the machine's own byte order, in the log.
// Source: "XFS Algorithms & Data Structures", "On-disk Inode" and "Inode Log Item".
#pragma once

#include <optional>
#include <vector>

#include "base/times.h"
#include "filesystems/posix.h"
#include "filesystems/xfs/superblock.h"

namespace dredger::xfs {

enum class ForkFormat : std::uint8_t { device, local, extents, btree };

struct Inode {
    std::uint64_t number = 0;
    std::uint32_t generation = 0;
    std::uint16_t mode = 0;  // 0: free
    ForkFormat format = ForkFormat::extents;
    std::uint32_t uid = 0, gid = 0;
    std::uint32_t links = 0;
    std::uint64_t size = 0;    // bytes
    std::uint64_t blocks = 0;  // allocated, with those that map others
    std::uint64_t extents = 0;
    FileTime accessed, changed, modified;
    std::optional<FileTime> created;  // version 5
    std::vector<std::byte> fork;      // of data: extents, a root of a tree, or the content itself
    std::uint64_t fork_at = 0;        // bytes, where `fork` stands; 0: in the log

    bool is_free() const { return mode == 0; }
    bool is_folder() const { return (mode & kTypeMask) == kFolderType; }
    bool is_file() const { return (mode & kTypeMask) == kFileType; }
    bool is_symlink() const { return (mode & kTypeMask) == kSymlinkType; }
    bool stores_content() const { return is_folder() || is_file() || is_symlink(); }
};

// `bytes`: the whole inode, with its place. None where there is no inode, or another one of version 5.
std::optional<Inode> parse_inode(ByteView bytes, std::uint64_t number, const Geometry& geometry);

// The core of an inode in the log, without a fork.
std::optional<Inode> parse_logged_core(ByteView bytes, std::uint64_t number);

}  // namespace dredger::xfs

// Nodes of F2FS: inodes, with the name that a file had and the folder it lay in, and the lists of addresses of larger
// files. Source: include/linux/f2fs_fs.h, struct f2fs_node; fs/f2fs/f2fs.h, inline data and entries.
#pragma once

#include <array>
#include <functional>
#include <optional>
#include <vector>

#include "base/times.h"
#include "filesystems/f2fs/superblock.h"
#include "filesystems/posix.h"

namespace dredger::f2fs {

struct NodeHead {
    std::uint32_t node = 0, inode = 0;  // the same of an inode
    std::uint32_t version = 0;          // the lower half of the checkpoint that it was written for
    bool is_inode() const { return node == inode; }
};

// What a whole block tells of itself as a node; none where it is none.
std::optional<NodeHead> parse_node_head(ByteView block, const Geometry& geometry);

struct Inode {
    std::uint32_t number = 0;
    std::uint32_t generation = 0;
    std::uint32_t parent = 0;
    bool parent_is_known = true;
    std::uint16_t mode = 0;
    std::uint32_t uid = 0, gid = 0, links = 0;
    std::uint64_t size = 0;  // bytes
    FileTime accessed, changed, modified;
    std::optional<FileTime> created;
    std::string name;  // bytes as they stand; empty: of the root, or encrypted
    bool is_encrypted = false;
    bool has_inline_data = false, has_inline_entries = false;
    std::vector<std::byte> inline_bytes;   // content or entries that stand in it, with what is free behind them
    std::uint64_t inline_at = 0;           // bytes, where these begin on the volume
    std::vector<std::uint32_t> addresses;  // of its first blocks
    std::array<std::uint32_t, 5> nodes{};  // two lists of addresses, two lists of lists, one of lists of lists

    bool is_folder() const { return (mode & kTypeMask) == kFolderType; }
    bool is_file() const { return (mode & kTypeMask) == kFileType; }
    bool is_symlink() const { return (mode & kTypeMask) == kSymlinkType; }
};

// `block`: the whole block of an inode, with its place.
std::optional<Inode> parse_inode(ByteView block, const Geometry& geometry);

// The block of a node of this inode; none where it is not to be had.
using NodeSource = std::function<std::optional<std::vector<std::byte>>(std::uint32_t node)>;

struct Placed {
    std::vector<Extent> extents;  // of the content, on the volume, up to its size
    bool is_whole = true;         // false: a list is not to be had; unknown extents stand for it
    bool is_packed = false;       // the file system packed some of it
};
// Where the content lies that is not within the inode.
Placed place(const Inode& inode, const Geometry& geometry, const NodeSource& node);

}  // namespace dredger::f2fs

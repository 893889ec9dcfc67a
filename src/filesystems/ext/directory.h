// Directory blocks: the entries that stand in them, and those that once did.
// Source: the Linux kernel's Documentation/filesystems/ext4, "Directory Entries".
#pragma once

#include <string>
#include <vector>

#include "filesystems/ext/superblock.h"
#include "filesystems/posix.h"

namespace dredger::ext {

struct DirectoryEntry {
    std::uint32_t inode = 0;
    std::string name;  // as it stands there
    FileType type = FileType::unknown;
    bool live = true;  // false: it stands in room that other entries have given up
};

struct DirectoryBlock {
    std::vector<DirectoryEntry> entries;  // without "." and ".."
    std::uint32_t self = 0, parent = 0;   // inodes; 0: it is not the first block of its directory
    bool whole = true;                    // false: the chain of entries breaks off
};

// What `block` lists.
DirectoryBlock read_directory_block(ByteView block, const Geometry& geometry);

// The entries within an inode with inline data: the first 4 bytes of `content` are the parent.
DirectoryBlock read_inline_directory(ByteView content, const Geometry& geometry);

// Whether the block can be one of a directory: its entries fill it from end to end.
bool is_directory_block(ByteView block, const Geometry& geometry);

// The inode of the directory that begins with this block; 0 where none does.
std::uint32_t directory_begun_by(ByteView block, const Geometry& geometry);

}  // namespace dredger::ext

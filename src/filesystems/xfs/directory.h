// Directories: short ones within the inode, and blocks of entries; with what entries that were removed left in them.
// Source: "XFS Algorithms & Data Structures", "Directories".
#pragma once

#include <string>
#include <vector>

#include "filesystems/posix.h"
#include "filesystems/xfs/superblock.h"

namespace dredger::xfs {

struct DirectoryEntry {
    std::uint64_t inode = 0;
    std::string name;  // as it stands there
    FileType type = FileType::unknown;
    bool live = true;
    bool inode_is_whole = true;  // false: its high half is overwritten
};

struct Directory {
    std::vector<DirectoryEntry> entries;  // without "." and ".."
    std::uint64_t parent = 0;             // 0: it does not say
    std::uint64_t owner = 0;              // the inode of the directory, by its header or "."; 0: it does not say
    bool whole = true;
};

// The fork of a short directory; `length`: its bytes that are in use. What lies behind is looked at, too.
Directory read_short_directory(ByteView fork, std::uint64_t length, const Geometry& geometry);

// Whether a block of entries begins here.
bool is_directory_block(ByteView block, const Geometry& geometry);
Directory read_directory_block(ByteView block, const Geometry& geometry);

// Entries that stand, or stood, anywhere in a part of such a block: `at` is where it begins there, a multiple of 8.
std::vector<DirectoryEntry> entries_within(ByteView part, std::size_t at, const Geometry& geometry);

}  // namespace dredger::xfs

// Where an inode's content lies: its list of extents, or the tree of them.
// Source: "XFS Algorithms & Data Structures", "Data Extents".
#pragma once

#include <vector>

#include "filesystems/xfs/inode.h"
#include "media/medium.h"

namespace dredger::xfs {

struct FileExtent {           // xfs_bmbt_rec, unpacked
    std::uint64_t start = 0;  // block of the file
    std::uint64_t block = 0;  // with its allocation group
    std::uint64_t count = 0;  // blocks
    bool unwritten = false;   // reads as zeros
    bool lost = false;        // what was told of these blocks can't be read; `block` says nothing
};

// The records in a fork or a leaf, as long as each can be one and lies behind the one before it; `most` at most.
std::vector<FileExtent> read_extents(ByteView records, std::uint64_t most, const Geometry& geometry);

struct ExtentList {
    std::vector<FileExtent> extents;
    std::vector<Extent> mappers;  // blocks that hold the tree
    bool whole = true;
};

// What the fork of `inode` tells, of as many extents as it counts. Blocks of a tree must say that they are its own.
ExtentList extents_of(const Inode& inode, const Geometry& geometry, const Medium& volume);

// As places on the volume, from the file's start to `size` (bytes). What no extent covers reads as zeros; of what is
// lost nobody knows where it lies.
std::vector<Extent> layout_of(const std::vector<FileExtent>& extents, std::uint64_t size, const Geometry& geometry);

}  // namespace dredger::xfs

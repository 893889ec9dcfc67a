// Where an inode's content lies: by extents or by lists of blocks.
// Source: the Linux kernel's Documentation/filesystems/ext4, "The Contents of inode.i_block".
#pragma once

#include <functional>

#include "filesystems/ext/inode.h"

namespace dredger::ext {

// Shows what stands, or once stood, in a block of the volume to `fits`, the likeliest first, until it says yes; whether
// it did.
using BlockVersions = std::function<bool(std::uint64_t block, const std::function<bool(ByteView)>& fits)>;

struct Mapping {
    std::vector<Extent> extents;   // in content order, up to the inode's size; bytes on the volume
    std::vector<Extent> mappers;   // the blocks that hold the map itself
    bool whole = true;             // false: a part of the map is lost or makes no sense; its content is a hole
    std::uint64_t told_bytes = 0;  // of the content that extents tell of, whatever the inode's size
    bool within_inode = false;     // the content stands in the inode
};

Mapping map_blocks(const Inode& inode, const Geometry& geometry, const BlockVersions& versions);

}  // namespace dredger::ext

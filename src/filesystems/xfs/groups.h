// What the allocation groups tell: where inodes lie and which blocks are free.
#pragma once

#include <string>
#include <vector>

#include "filesystems/space_map.h"
#include "filesystems/xfs/superblock.h"
#include "media/medium.h"

namespace dredger::xfs {

// Up to 64 inodes that lie together.
struct InodeChunk {
    std::uint64_t first = 0;    // inode
    std::uint64_t free = 0;     // a bit for each, the lowest for the first: it is not in use
    std::uint64_t missing = 0;  // the same: there is no room for it
};

class Groups {
  public:
    // Damage costs what it hides and is told in `warnings`.
    static Groups read(const Medium& volume, const Geometry& geometry, std::vector<std::string>& warnings);

    const std::vector<InodeChunk>& chunks() const { return chunks_; }  // by number
    const SpaceMap& space() const { return space_; }

    // The chunk that holds an inode, or null.
    const InodeChunk* chunk_of(std::uint64_t inode) const;

  private:
    std::vector<InodeChunk> chunks_;
    SpaceMap space_;
};

}  // namespace dredger::xfs

// Reads files and directories through the allocation table.
#pragma once

#include <vector>

#include "filesystems/fat/directory.h"
#include "filesystems/fat/layouts.h"
#include "filesystems/fat/table.h"

namespace dredger::fat {

class Chains {
  public:
    Chains(MediumPtr volume, const Geometry& geometry, const Table& table);

    struct Chain {
        std::vector<Run> runs;
        bool whole = true;  // false: it breaks off, runs in a circle, or meets another file's clusters
    };
    // The live chain from `first`, at most `most` clusters of it. The clusters are noted, so that chains that cross or
    // run in circles cost each cluster once.
    Chain follow(std::uint32_t first, std::uint64_t most);

    // The entries in a cluster, or in the fixed root directory of FAT12 and FAT16; none where it can't be read.
    std::vector<Slot> slots_of(std::uint32_t cluster) const;
    std::vector<Slot> fixed_root() const;

    // Bytes of folders that could not be read so far.
    std::uint64_t unreadable() const { return unreadable_; }

    // The content of `runs` as extents on the volume, cut to `size` bytes.
    std::vector<Extent> extents(const std::vector<Run>& runs, std::uint64_t size) const;

  private:
    std::vector<Slot> slots_at(std::uint64_t offset, std::uint64_t length) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    const Table& table_;
    std::vector<bool> followed_;  // by cluster
    mutable std::uint64_t unreadable_ = 0;
};

}  // namespace dredger::fat

// The journal: every copy of a block that still stands in its area, whatever its own pointers say of how much of it
// counts. Transactions long done are as good a source as the last ones.
// Source: the Linux kernel's Documentation/filesystems/ext4, "Journal (jbd2)".
#pragma once

#include <functional>
#include <vector>

#include "filesystems/ext/block_map.h"

namespace dredger::ext {

struct BlockCopy {
    std::uint64_t block = 0;     // of the volume, that it is a copy of
    std::uint64_t place = 0;     // bytes on the volume, where the copy stands
    std::uint32_t sequence = 0;  // of its transaction: later ones have higher numbers
    bool escaped = false;        // its first 4 bytes are the journal's magic, and stand there as zeros
};

class Journal {
  public:
    Journal() = default;
    // `extents`: of the journal's content. Empty where they hold no journal.
    static Journal read(const MediumPtr& volume, const Geometry& geometry, const std::vector<Extent>& extents);

    // By block, and of each the oldest first.
    const std::vector<BlockCopy>& copies() const { return copies_; }
    std::span<const BlockCopy> copies_of(std::uint64_t block) const;
    // The copy's bytes; empty where they can't be read.
    std::vector<std::byte> bytes_of(const BlockCopy& copy) const;

    // The newest copy of each block that was written to the journal but, since the volume was not unmounted, perhaps
    // not to its place: by block.
    const std::vector<BlockCopy>& unsettled() const { return unsettled_; }
    // Where what belongs at byte `offset` of the volume really stands.
    std::uint64_t place_now(std::uint64_t offset) const;

  private:
    Journal(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(geometry) {}
    struct Log;

    MediumPtr volume_;
    Geometry geometry_;
    std::vector<BlockCopy> copies_;
    std::vector<BlockCopy> unsettled_;
};

// The volume as it is once its journal has been played back: nothing is written.
MediumPtr played_back(MediumPtr volume, const Geometry& geometry, const Journal& journal);

}  // namespace dredger::ext

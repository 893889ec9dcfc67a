// The file allocation table: which cluster follows which. All its copies are read and compared.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "filesystems/fat/geometry.h"
#include "filesystems/space_map.h"
#include "media/medium.h"

namespace dredger::fat {

enum class Link {
    free,
    next,     // another cluster follows
    end,      // the chain ends here
    bad,      // marked as unusable
    invalid,  // a value that no chain has, or it can't be read
};

struct Entry {
    Link link = Link::invalid;
    std::uint32_t next = 0;  // with Link::next
};

class Table {
  public:
    // Reads every copy once, in order.
    static Result<Table> read(const MediumPtr& volume, const Geometry& geometry);

    // Of an earlier file system whose table is gone: no chain is known. What `today` holds or keeps for itself is
    // taken.
    static Table of_former(const Geometry& former, const SpaceMap& today);

    // The entry of the copy that counts; where that makes no sense, of another one. The cluster must be held.
    Entry entry(std::uint32_t cluster) const;

    // The chain from `first` in a copy that the driver no longer kept in step, where the copy that counts shows the
    // cluster as free. At most `most` clusters; empty where there is no such chain.
    std::vector<std::uint32_t> stale_chain(std::uint32_t first, std::uint64_t most) const;

    const SpaceMap& space() const { return space_; }
    bool taken(std::uint32_t cluster) const { return space_.taken(cluster - 2); }
    const std::vector<std::string>& warnings() const { return warnings_; }

  private:
    Table(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(geometry) {}
    Entry entry_in(unsigned copy, std::uint32_t cluster) const;

    MediumPtr volume_;  // cached: chains are followed entry by entry
    Geometry geometry_;
    unsigned trusted_ = 0;  // the copy that counts
    bool copies_differ_ = false;
    bool is_gone_ = false;  // every entry counts as free
    SpaceMap space_;
    std::vector<std::string> warnings_;
};

}  // namespace dredger::fat

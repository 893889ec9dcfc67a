// From the number of a virtual object to the block in which it stands, as of a transaction.
#pragma once

#include <map>

#include "filesystems/apfs/node.h"

namespace dredger::apfs {

class ObjectMap {
  public:
    struct Place {
        std::uint64_t paddr = 0;  // block
        std::uint32_t flags = 0;  // OMAP_VAL_...
    };

    // Adds what the map whose object stands at `paddr` tells. False: a part of it can't be read.
    bool read(const Blocks& blocks, std::uint64_t paddr);

    bool empty() const { return places_.empty(); }
    bool knows(std::uint64_t oid) const;
    // The newest that is not newer than `xid`.
    std::optional<Place> find(std::uint64_t oid, std::uint64_t xid) const;

  private:
    std::map<std::pair<std::uint64_t, std::uint64_t>, Place> places_;  // by object and transaction
};

}  // namespace dredger::apfs

// A look at the file systems of a medium whose reads go through the copy: whatever the look needs is copied by it, and
// so what gives files their names and places is safe before anything else.
#pragma once

#include <functional>

#include "base/observer.h"
#include "media/medium.h"

namespace dredger {

// What a copy lends to those who look into what it copies.
class CopySoFar {
  public:
    virtual ~CopySoFar() = default;
    // Asks the medium for what of this was never asked for. An error where the copy has to end.
    virtual Result<void> fetch(const Extent& wanted) = 0;
    // What the copy has of it; what it has not comes as zeros, and is added to `bad`.
    virtual Result<void> read(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const = 0;
};

// The places that were looked at, in order and apart from each other: the partition table and, of each file system that
// is recognised, all that has to be read to walk its live files. `copy` stands for a medium like `medium`.
std::vector<Extent> copy_structures(const Medium& medium, CopySoFar& copy, Observer& observer);

}  // namespace dredger

// From forks to places: the extents overflow file tells what the catalog has no room for.
#pragma once

#include <map>
#include <utility>
#include <vector>

#include "filesystems/hfsplus/btree.h"

namespace dredger::hfsplus {

enum class ForkKind : std::uint8_t { data = 0, resource = 0xFF };

class ExtentsOverflow {
  public:
    // The records of today's tree.
    void read(const Btree& tree, const Geometry& geometry);
    // The records that stand in `area`, whoever's they were; none is put in the place of another.
    void carve(ByteView area, const Geometry& geometry);

    // All of a fork's extents in bytes of the volume, to its end; what is not told is unknown.
    std::vector<Extent> extents_of(const Fork& fork, std::uint32_t id, ForkKind kind, const Geometry& geometry) const;

  private:
    bool take(ByteView record, const Geometry& geometry);

    // By file and fork, then by the fork's block that they begin with.
    std::map<std::pair<std::uint32_t, ForkKind>, std::map<std::uint32_t, std::array<ExtentDescriptor, kExtentDensity>>>
        records_;
    std::size_t count_ = 0;
};

}  // namespace dredger::hfsplus

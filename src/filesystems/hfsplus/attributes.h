// Extended attributes: small ones stand in their tree, larger ones in forks of their own.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "filesystems/hfsplus/btree.h"

namespace dredger::hfsplus {

struct Attribute {
    std::string name;
    Extent place;  // bytes, on the volume, where it stands in the tree; else `fork` tells
    Fork fork;

    bool is_inline() const { return place.length > 0; }
    std::uint64_t size() const { return is_inline() ? place.length : fork.size; }
};

class Attributes {
  public:
    void read(const Btree& tree, const Geometry& geometry);
    // What stands in `area`, whoever's it was; the first of each name counts.
    void carve(ByteView area, const Geometry& geometry);

    const std::vector<Attribute>& of(std::uint32_t id) const;
    const Attribute* find(std::uint32_t id, std::string_view name) const;

  private:
    std::size_t take(ByteView record, const Geometry& geometry);

    std::map<std::uint32_t, std::vector<Attribute>> by_file_;
    std::size_t count_ = 0;
};

}  // namespace dredger::hfsplus

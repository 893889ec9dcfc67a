// Lists of block pointers that stand in free space: deletion on ext2 and ext3 clears the pointers in the inode, not the
// blocks full of pointers that it led to. A list begins with what lies behind the twelve blocks of the inode itself,
// which lie in front of that, mostly.
// Source: "The Second Extended File System", Dave Poirier, 3.2.4 (i_block).
#pragma once

#include <functional>
#include <map>

#include "filesystems/ext/superblock.h"
#include "filesystems/filesystem.h"

namespace dredger::ext {

class PointerLists final : public LeftLayouts {
  public:
    // Reads what is free of the volume. `go_on` is told of bytes done and in all; false ends it.
    PointerLists(const Medium& volume, const Geometry& geometry, const SpaceMap& space,
                 const std::function<bool(std::uint64_t, std::uint64_t)>& go_on);

    std::vector<std::vector<Extent>> from(std::uint64_t start) const override;

  private:
    using Blocks = std::vector<std::uint32_t>;

    void look_at(ByteView block, std::uint64_t number);
    void tell_double_lists();
    void append_double(Blocks& blocks) const;
    std::vector<Extent> layout_of(const Blocks& blocks) const;

    std::uint64_t block_size_, blocks_;  // bytes, and blocks of the volume
    const SpaceMap& space_;
    std::map<std::uint64_t, Blocks> lists_;                 // by their own block
    std::multimap<std::uint32_t, std::uint64_t> by_first_;  // lists by their first pointer
    std::multimap<std::uint32_t, std::uint64_t>
        double_by_first_;  // the same of lists of lists: what the first one begins with
    std::size_t pointers_ = 0;
};

}  // namespace dredger::ext

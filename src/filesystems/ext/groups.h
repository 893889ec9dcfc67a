// Block groups: where each has its bitmaps and its part of the inode table.
// Source: the Linux kernel's Documentation/filesystems/ext4, "Block Group Descriptors".
#pragma once

#include <vector>

#include "filesystems/ext/superblock.h"
#include "filesystems/space_map.h"

namespace dredger::ext {

struct Group {
    std::uint64_t block_bitmap = 0, inode_bitmap = 0, inode_table = 0;  // blocks; 0: not known
    std::uint32_t unused_inodes = 0;                                    // at the end of its inode table
    std::uint16_t flags = 0;
};

// bg_flags
inline constexpr std::uint16_t kInodesUninitialised = 0x1, kBlocksUninitialised = 0x2, kInodeTableZeroed = 0x4;

class Groups {
  public:
    // From the descriptors, or their copies where they make no sense; `warnings` tells of what neither knows.
    static Groups read(const Medium& volume, const Geometry& geometry, std::vector<std::string>& warnings);

    const std::vector<Group>& all() const { return groups_; }

    // Byte offset of an inode; none for a number that no inode has or a table whose place is not known.
    std::optional<std::uint64_t> place_of(std::uint32_t inode) const;
    // The first inode that this block of an inode table holds; none where it is of no table.
    std::optional<std::uint32_t> first_inode_in(std::uint64_t block) const;
    // How many inodes of the group were ever in use.
    std::uint64_t used_inodes(std::uint64_t group) const;

    // What the bitmaps call taken, with the groups' own structures. `whole`: all bitmaps could be read.
    SpaceMap space(const Medium& volume, bool& whole) const;

  private:
    explicit Groups(const Geometry& geometry) : geometry_(geometry) {}
    void index_tables();
    void take_structures(SpaceMap& map) const;

    Geometry geometry_;
    std::vector<Group> groups_;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> tables_;  // first block, group; by block
};

}  // namespace dredger::ext

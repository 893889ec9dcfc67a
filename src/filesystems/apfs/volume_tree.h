// A volume's tree of files as it was at a transaction.
#pragma once

#include <functional>

#include "filesystems/apfs/container.h"
#include "filesystems/apfs/records.h"

namespace dredger::apfs {

class VolumeTree {
  public:
    // Nodes are virtual objects, which `map` places; `root` is the tree's own.
    VolumeTree(const Blocks& blocks, const ObjectMap& map, std::uint64_t root, std::uint64_t xid)
        : blocks_(blocks), map_(map), root_(root), xid_(xid) {}

    struct Entry {
        FsKey key;
        ByteView key_bytes, value;
    };
    // False ends the walk.
    using Visit = std::function<bool(const Entry& entry)>;
    // In order, from the first key that is not less. Whether all of it could be read.
    bool walk_from(const FsKey& from, const Visit& visit) const;
    bool walk(const Visit& visit) const { return walk_from({}, visit); }

    const Blocks& blocks() const { return blocks_; }
    const ObjectMap& map() const { return map_; }
    std::uint64_t root() const { return root_; }
    std::uint64_t xid() const { return xid_; }

  private:
    const Blocks& blocks_;
    const ObjectMap& map_;
    std::uint64_t root_, xid_;
};

}  // namespace dredger::apfs

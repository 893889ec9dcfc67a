// The volumes of a container as its newest checkpoint has them, with their maps and snapshots.
#pragma once

#include <string>
#include <vector>

#include "filesystems/apfs/volume_tree.h"

namespace dredger::apfs {

struct Snapshot {
    std::uint64_t xid = 0;
    std::string name;
    FileTime made;
    std::uint64_t super = 0;  // block of the volume's superblock of then
};

// A volume, and what is needed to read its trees.
struct VolumeAtHand {
    VolumeState state;
    ObjectMap map;
    std::string folder;  // in front of all its paths; empty: there is only this volume
    std::vector<Snapshot> snapshots;
    bool whole = true;  // its map could be read

    VolumeTree tree(const Blocks& blocks) const {
        return {blocks, map, state.super.apfs_root_tree_oid, state.super.apfs_o.o_xid};
    }
};

// The volumes of the newest checkpoint, whose trees are not encrypted; of the others only what they are called.
std::vector<VolumeAtHand> volumes_at_hand(const Container& container);

}  // namespace dredger::apfs

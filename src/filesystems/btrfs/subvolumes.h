// The roots of the file trees of a Btrfs volume: its top level, subvolumes and snapshots.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/times.h"
#include "filesystems/btrfs/volume.h"

namespace dredger::btrfs {

struct Subvolume {
    std::uint64_t bytenr = 0;              // logical address of its root node
    std::uint64_t generation = 0;          // in which it last changed
    std::uint64_t parent = 0, folder = 0;  // root, and inode in it, that list it
    std::string name;
    bool is_snapshot = false;
    bool is_read_only = false;
    std::optional<FileTime> made;

    // Made to keep a state, not to go on from it.
    bool is_frozen() const { return is_snapshot && is_read_only; }
};

struct Subvolumes {
    std::map<std::uint64_t, Subvolume> by_id;
    bool any = false;       // false: no tree of roots can be read at all
    bool is_newest = true;  // false: the newest tree of roots is damaged, an older one told
    // Those that are written to first, and of them and of the others the newest.
    std::vector<std::uint64_t> in_order() const;
};
Subvolumes read_subvolumes(const Nodes& nodes);

}  // namespace dredger::btrfs

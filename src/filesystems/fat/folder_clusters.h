// Free clusters that still hold directory entries. Deletion cuts the chain of a folder, and a new entry may take the
// place of the one that named it: then only the clusters themselves tell of it. They are looked for where nothing else
// is known to lie.
#pragma once

#include <map>
#include <set>

#include "filesystems/fat/chains.h"

namespace dredger::fat {

class FolderClusters {
  public:
    // Looks at the first sector of free clusters, in order, leaving out those in `known` (of deleted files, by their
    // entries). At most `most` clusters are looked at, so that a large empty volume costs little.
    void search(const Medium& volume, const Geometry& geometry, const Table& table, const std::vector<Run>& known,
                std::uint64_t most);

    // Clusters that begin a folder, with that of the folder above (0: the root).
    const std::map<std::uint32_t, std::uint32_t>& beginnings() const { return beginnings_; }

    // Clusters that go on with a folder, with the time of the earliest entry in each.
    const std::map<std::uint32_t, FileTime>& continuations() const { return continuations_; }

    void take(std::uint32_t cluster) {
        beginnings_.erase(cluster);
        continuations_.erase(cluster);
    }

  private:
    std::map<std::uint32_t, std::uint32_t> beginnings_;
    std::map<std::uint32_t, FileTime> continuations_;
};

// The earliest time of writing of the entries; nothing where none is dated.
std::optional<FileTime> earliest(std::span<const Slot> slots);

}  // namespace dredger::fat

// Where the content of deleted files lies: finds each one's first cluster, lays the rest out, and lets the content
// itself decide between places that are possible.
#pragma once

#include <set>

#include "filesystems/fat/deleted_tree.h"

namespace dredger::fat {

class Placing {
  public:
    // All must outlive it. Of files only the first and the last sector are read.
    Placing(const MediumPtr& volume, const Geometry& geometry, const Table& table, const WalkOptions& options,
            const Chains& chains, Layouts& layouts, const std::vector<Folder>& folders)
        : volume_(volume),
          geometry_(geometry),
          table_(table),
          options_(options),
          chains_(chains),
          layouts_(layouts),
          folders_(folders) {}

    // Gives every file its first cluster, runs and trust; folders are left alone.
    void place(std::vector<Deleted>& files);

  private:
    Agreement begins_as_named(const Deleted& file, std::uint32_t cluster) const;
    Standing standing_of(const Deleted& file) const;
    bool ends_as_recorded(const std::vector<Run>& runs, std::uint64_t size) const;
    std::vector<Run> most_likely_layout(const Deleted& file, std::uint64_t count);
    void find_start(Deleted& file) const;
    void lengthen_extension(Deleted& file) const;
    std::uint64_t clusters_for(std::uint64_t bytes) const { return divide_up(bytes, geometry_.cluster_size); }

    const MediumPtr& volume_;
    const Geometry& geometry_;
    const Table& table_;
    const WalkOptions& options_;
    const Chains& chains_;
    Layouts& layouts_;
    const std::vector<Folder>& folders_;
    std::set<std::uint32_t> known_starts_;  // first clusters that deleted entries tell in full
    bool high_halves_kept_ = false;         // by the system that deleted here, as some entry shows
};

}  // namespace dredger::fat

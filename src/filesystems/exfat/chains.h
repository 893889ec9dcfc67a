// The FAT of an exFAT volume and its allocation bitmap. Unlike in FAT the bitmap tells which clusters are in use; the
// FAT tells only how fragmented files go on, and keeps telling it after they were deleted.
#pragma once

#include <vector>

#include "filesystems/exfat/geometry.h"
#include "filesystems/space_map.h"
#include "media/medium.h"

namespace dredger::exfat {

struct Run {
    std::uint32_t first = 0;
    std::uint32_t count = 0;
};

struct Chain {
    std::vector<Run> runs;
    std::uint64_t count = 0;  // clusters
    bool ended = false;       // the FAT says that this is the end
};

class Chains {
  public:
    // `volume` is asked for single entries of the FAT and had better be cached.
    Chains(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(geometry) {}

    // What the FAT says, at most `most` clusters. A chain that runs in a circle ends within its third round.
    Chain follow(std::uint32_t first, std::uint64_t most) const;

    // The bytes of `runs`, cut to `length`, of which what lies behind `valid` is zeros.
    std::vector<Extent> extents(const std::vector<Run>& runs, std::uint64_t length, std::uint64_t valid) const;

    // `count` clusters from `first` on, as far as the volume goes.
    std::vector<Run> straight(std::uint32_t first, std::uint64_t count) const;

    std::uint64_t clusters_for(std::uint64_t length) const { return divide_up(length, geometry_.cluster_size); }

  private:
    std::uint32_t entry(std::uint32_t cluster) const;

    MediumPtr volume_;
    const Geometry& geometry_;
};

// Adds a cluster behind a list of runs.
void add_cluster(std::vector<Run>& runs, std::uint32_t cluster);

}  // namespace dredger::exfat

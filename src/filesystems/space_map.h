// Which parts of a volume its live structures hold, in units of clusters.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "media/medium.h"

namespace dredger {

class SpaceMap {
  public:
    SpaceMap() = default;
    // `units` clusters of `unit` bytes from byte `base` of the volume on, all free at first. What lies before `base`
    // and behind the last cluster belongs to the file system itself.
    SpaceMap(std::uint64_t base, std::uint64_t unit, std::uint64_t units)
        : base_(base), unit_(unit), taken_(static_cast<std::size_t>(units)) {}

    std::uint64_t units() const { return taken_.size(); }
    std::uint64_t end() const { return base_ + units() * unit_; }  // bytes: behind the last cluster
    bool taken(std::uint64_t index) const { return taken_[static_cast<std::size_t>(index)]; }
    void take(std::uint64_t index) {
        if (!taken_[static_cast<std::size_t>(index)]) ++taken_count_;
        taken_[static_cast<std::size_t>(index)] = true;
    }
    void take_run(std::uint64_t first, std::uint64_t count);
    // A bit for each cluster from `first` on, the lowest of each byte first; those beyond the last cluster are left
    // out.
    void take_bits(std::uint64_t first, std::span<const std::byte> bits);
    std::uint64_t taken_bytes() const { return taken_count_ * unit_; }

    // The clusters that `extent` touches, whole: what lies behind a file's end in its last cluster is its own too.
    Extent whole_units(const Extent& extent) const;

    // What no live structure holds, as runs of bytes on the volume.
    std::vector<Extent> free_runs() const;

    // How many bytes of `extent` live structures hold.
    std::uint64_t taken_bytes_in(const Extent& extent) const;

  private:
    std::uint64_t base_ = 0;
    std::uint64_t unit_ = 1;
    std::uint64_t taken_count_ = 0;
    std::vector<bool> taken_;
};

}  // namespace dredger

// What of a ground nobody holds for sure: where the rest of torn files may lie.
#pragma once

#include "media/coverage.h"

namespace dredger {

class Remains {
  public:
    // `size`: bytes of the ground. Files lie in grains of `grain` bytes, the first of which begins at `phase`.
    Remains(std::uint64_t size, std::uint64_t grain, std::uint64_t phase = 0);

    // Every grain of which a byte lies in `part` is somebody's.
    void hold(const Extent& part);
    void hold(const std::vector<Extent>& parts) {
        for (const Extent& part : parts) hold(part);
    }

    std::uint64_t grain() const { return grain_; }
    std::uint64_t phase() const { return phase_; }
    bool is_held(std::uint64_t at) const { return held_.covers(at); }
    bool is_held_in_part(const Extent& part) const { return !held_.within(part.offset, part.length).empty(); }
    // Where what is held at `at` ends, or what nobody holds; within the ground.
    std::uint64_t held_until(std::uint64_t at) const { return held_.end_at(at); }

    // The runs that nobody holds, in order.
    const std::vector<Extent>& runs() const { return runs_; }
    // To be called between the last hold() and the first question about runs.
    void settle();
    // The number of the first run that ends behind `at`.
    std::size_t run_at(std::uint64_t at) const;
    // The run that `at` lies in; null where somebody holds it.
    const Extent* run_around(std::uint64_t at) const;

  private:
    std::uint64_t size_, grain_, phase_;
    Coverage held_;
    std::vector<Extent> runs_;
};

}  // namespace dredger

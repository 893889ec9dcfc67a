#include "carving/remains.h"

#include <algorithm>

namespace dredger {

Remains::Remains(std::uint64_t size, std::uint64_t grain, std::uint64_t phase)
    : size_(size), grain_(grain), phase_(phase % grain) {
    held_.add({0, phase_});  // no file begins or goes on there
    settle();
}

void Remains::hold(const Extent& part) {
    const std::uint64_t shift = grain_ - phase_;
    const std::uint64_t start = (part.offset + shift) / grain_ * grain_;
    const std::uint64_t end = (part.end() + shift + grain_ - 1) / grain_ * grain_;
    const std::uint64_t from = start > shift ? start - shift : 0;
    const std::uint64_t to = std::min(size_, end - shift);
    if (from < to) held_.add({from, to - from});
}

void Remains::settle() { runs_ = held_.gaps_within(0, size_); }

std::size_t Remains::run_at(std::uint64_t at) const {
    const auto run =
        std::upper_bound(runs_.begin(), runs_.end(), at, [](std::uint64_t a, const Extent& r) { return a < r.end(); });
    return static_cast<std::size_t>(run - runs_.begin());
}

const Extent* Remains::run_around(std::uint64_t at) const {
    const std::size_t run = run_at(at);
    return run < runs_.size() && runs_[run].offset <= at ? &runs_[run] : nullptr;
}

}  // namespace dredger

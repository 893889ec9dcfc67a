// When which logical addresses were written: every extent that any leaf tells of has the generation of its transaction.
// What was written later took the place of what was there before, and its checksums that of the older ones.
#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

namespace dredger::btrfs {

class Writings {
  public:
    // All in bytes. To be sealed before the first question.
    void add(std::uint64_t logical, std::uint64_t length, std::uint64_t generation) {
        if (length == 0) return;
        all_.push_back({logical, length, generation});
        longest_ = std::max(longest_, length);
    }
    void seal() {
        std::sort(all_.begin(), all_.end(), [](const Writing& a, const Writing& b) { return a.logical < b.logical; });
    }

    // The first generation after `generation` that wrote into this range; the largest number where none is known.
    std::uint64_t next_after(std::uint64_t generation, std::uint64_t logical, std::uint64_t length) const {
        std::uint64_t next = UINT64_MAX;
        each_in(logical, length, [&](const Writing& writing) {
            if (writing.generation > generation) next = std::min(next, writing.generation);
        });
        return next;
    }

  private:
    struct Writing {
        std::uint64_t logical, length, generation;
    };

    template <class Visit>
    void each_in(std::uint64_t logical, std::uint64_t length, const Visit& visit) const {
        const std::uint64_t from = logical - std::min(logical, longest_);
        auto writing = std::lower_bound(all_.begin(), all_.end(), from,
                                        [](const Writing& w, std::uint64_t at) { return w.logical < at; });
        for (; writing != all_.end() && writing->logical < logical + length; ++writing)
            if (logical - std::min(logical, writing->logical) < writing->length) visit(*writing);
    }

    std::vector<Writing> all_;
    std::uint64_t longest_ = 0;
};

}  // namespace dredger::btrfs

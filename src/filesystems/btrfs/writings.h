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
        if (length > 0) all_.push_back({logical, logical + length, generation, 0});
    }
    void seal() {
        std::sort(all_.begin(), all_.end(), [](const Writing& a, const Writing& b) { return a.logical < b.logical; });
        std::uint64_t reach = 0;
        for (Writing& writing : all_) writing.reach = reach = std::max(reach, writing.end);
    }

    // The first generation after `generation` that wrote into this range; the largest number where none is known.
    std::uint64_t next_after(std::uint64_t generation, std::uint64_t logical, std::uint64_t length) const {
        std::uint64_t next = UINT64_MAX;
        each_in(logical, length, [&](const Writing& writing) {
            if (writing.generation > generation) next = std::min(next, writing.generation);
        });
        return next;
    }

    // The last generation that wrote into this range; 0 where none is known.
    std::uint64_t last_in(std::uint64_t logical, std::uint64_t length) const {
        std::uint64_t last = 0;
        each_in(logical, length, [&](const Writing& writing) { last = std::max(last, writing.generation); });
        return last;
    }

  private:
    struct Writing {
        std::uint64_t logical, end, generation;
        std::uint64_t reach;  // the last end of this one and of all that begin before it
    };

    template <class Visit>
    void each_in(std::uint64_t logical, std::uint64_t length, const Visit& visit) const {
        auto writing = std::lower_bound(all_.begin(), all_.end(), logical + length,
                                        [](const Writing& w, std::uint64_t at) { return w.logical < at; });
        while (writing != all_.begin() && (--writing)->reach > logical)
            if (writing->end > logical) visit(*writing);
    }

    std::vector<Writing> all_;
};

}  // namespace dredger::btrfs

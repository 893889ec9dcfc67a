// Parts of a medium: those that belong to files that were found already, or those that can't be read.
#pragma once

#include <cstdint>
#include <map>
#include <vector>

#include "media/medium.h"

namespace dredger {

class Coverage {
  public:
    Coverage() = default;
    explicit Coverage(const std::vector<Extent>& extents) {
        for (const Extent& extent : extents) add(extent);
    }

    void add(const Extent& extent);
    bool covers(std::uint64_t at) const { return end_at(at) > at; }
    // Where the covered run that `at` lies in ends; `at` itself where it is not covered.
    std::uint64_t end_at(std::uint64_t at) const;
    // Where the first covered run behind `at` begins; ~0 where there is none.
    std::uint64_t next_from(std::uint64_t at) const {
        const auto next = ends_.upper_bound(at);
        return next == ends_.end() ? ~std::uint64_t{0} : next->first;
    }
    // What of this range is covered, in order.
    std::vector<Extent> within(std::uint64_t offset, std::uint64_t length) const;
    // What of it is not, in order.
    std::vector<Extent> gaps_within(std::uint64_t offset, std::uint64_t length) const;
    // All of it that `other` does not cover.
    Coverage without(const Coverage& other) const;
    bool empty() const { return ends_.empty(); }
    std::uint64_t bytes() const;
    // Leaves out what lies before `at`.
    void forget_before(std::uint64_t at);
    std::vector<Extent> extents() const;

  private:
    std::map<std::uint64_t, std::uint64_t> ends_;  // by start; runs don't touch
};

}  // namespace dredger

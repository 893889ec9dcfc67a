#include "media/coverage.h"

#include <algorithm>

namespace dredger {

void Coverage::add(const Extent& extent) {
    if (!extent.is_stored() || extent.length == 0) return;
    std::uint64_t start = extent.offset;
    std::uint64_t end = extent.end();
    auto at = ends_.upper_bound(start);
    if (at != ends_.begin() && std::prev(at)->second >= start) --at;
    while (at != ends_.end() && at->first <= end) {
        start = std::min(start, at->first);
        end = std::max(end, at->second);
        at = ends_.erase(at);
    }
    ends_.emplace(start, end);
}

std::uint64_t Coverage::end_at(std::uint64_t at) const {
    const auto behind = ends_.upper_bound(at);
    if (behind == ends_.begin()) return at;
    return std::max(at, std::prev(behind)->second);
}

std::vector<Extent> Coverage::within(std::uint64_t offset, std::uint64_t length) const {
    std::vector<Extent> list;
    const std::uint64_t end = offset + length;
    auto run = ends_.upper_bound(offset);
    if (run != ends_.begin()) --run;
    for (; run != ends_.end() && run->first < end; ++run) {
        const std::uint64_t from = std::max(offset, run->first), to = std::min(end, run->second);
        if (from < to) list.push_back({from, to - from});
    }
    return list;
}

std::vector<Extent> Coverage::gaps_within(std::uint64_t offset, std::uint64_t length) const {
    std::vector<Extent> list;
    std::uint64_t at = offset;
    const auto add_to = [&](std::uint64_t to) {
        if (to > at) list.push_back({at, to - at});
    };
    for (const Extent& run : within(offset, length)) {
        add_to(run.offset);
        at = run.end();
    }
    add_to(offset + length);
    return list;
}

Coverage Coverage::without(const Coverage& other) const {
    Coverage rest;
    for (const auto& [start, end] : ends_)
        for (const Extent& gap : other.gaps_within(start, end - start)) rest.add(gap);
    return rest;
}

std::uint64_t Coverage::bytes() const {
    std::uint64_t sum = 0;
    for (const auto& [start, end] : ends_) sum += end - start;
    return sum;
}

void Coverage::forget_before(std::uint64_t at) {
    while (!ends_.empty() && ends_.begin()->second <= at) ends_.erase(ends_.begin());
}

std::vector<Extent> Coverage::extents() const {
    std::vector<Extent> list;
    for (const auto& [start, end] : ends_) list.push_back({start, end - start});
    return list;
}

}  // namespace dredger

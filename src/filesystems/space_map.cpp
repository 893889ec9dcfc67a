#include "filesystems/space_map.h"

#include <algorithm>

namespace dredger {

void SpaceMap::take_bits(std::uint64_t first, std::span<const std::byte> bits) {
    for (std::size_t i = 0; i < bits.size(); ++i) {
        if (bits[i] == std::byte{0}) continue;
        for (unsigned bit = 0; bit < 8; ++bit) {
            const std::uint64_t unit = first + i * 8 + bit;
            if ((std::to_integer<unsigned>(bits[i]) >> bit & 1U) != 0 && unit < units()) take(unit);
        }
    }
}

void SpaceMap::take_run(std::uint64_t first, std::uint64_t count) {
    if (first >= units()) return;
    const auto from = taken_.begin() + static_cast<std::ptrdiff_t>(first);
    const auto to = from + static_cast<std::ptrdiff_t>(std::min(count, units() - first));
    taken_count_ += static_cast<std::uint64_t>(std::count(from, to, false));
    std::fill(from, to, true);
}

Extent SpaceMap::whole_units(const Extent& extent) const {
    const std::uint64_t behind = base_ + units() * unit_;
    if (!extent.is_stored() || extent.length == 0 || extent.offset < base_ || extent.end() > behind) return extent;
    const std::uint64_t first = extent.offset - (extent.offset - base_) % unit_;
    const std::uint64_t last = extent.end() - 1 - (extent.end() - 1 - base_) % unit_ + unit_;
    return {first, last - first};
}

std::uint64_t SpaceMap::taken_bytes_in(const Extent& extent) const {
    std::uint64_t sum = 0;
    for (std::uint64_t at = extent.offset; at < extent.end();) {
        const std::uint64_t index = at < base_ ? units() : (at - base_) / unit_;
        std::uint64_t next = at < base_ ? base_ : base_ + (index + 1) * unit_;
        if (index >= units() && at >= base_) next = extent.end();
        next = std::min(next, extent.end());
        if (index >= units() || taken(index)) sum += next - at;
        at = next;
    }
    return sum;
}

std::vector<Extent> SpaceMap::free_runs() const {
    std::vector<Extent> runs;
    for (std::size_t unit = 0; unit < taken_.size(); ++unit) {
        if (taken_[unit]) continue;
        const std::uint64_t at = base_ + unit * unit_;
        if (!runs.empty() && runs.back().end() == at)
            runs.back().length += unit_;
        else
            runs.push_back({at, unit_});
    }
    return runs;
}

}  // namespace dredger

#include "filesystems/leftover.h"

#include <algorithm>

namespace dredger {

Leftover::Leftover(MediumPtr volume, const SpaceMap& today) : volume_(std::move(volume)), left_(today.free_runs()) {
    // Behind the last cluster it may keep a copy of its own boot sector, and so may an earlier one.
    if (today.end() < volume_->size()) left_.push_back({today.end(), volume_->size() - today.end()});
}

Result<void> Leftover::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    std::fill(into.begin(), into.end(), std::byte{0});
    const std::uint64_t end = offset + into.size();
    auto run = std::partition_point(left_.begin(), left_.end(), [&](const Extent& r) { return r.end() <= offset; });
    for (; run != left_.end() && run->offset < end; ++run) {
        const std::uint64_t from = std::max(offset, run->offset), to = std::min(end, run->end());
        DREDGER_CHECK(volume_->read(
            from, into.subspan(static_cast<std::size_t>(from - offset), static_cast<std::size_t>(to - from)), &bad));
    }
    return {};
}

}  // namespace dredger

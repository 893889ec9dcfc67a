#include "media/sparing.h"

#include <algorithm>
#include <mutex>

namespace dredger {
namespace {

constexpr std::uint64_t kFirstStep = 64 << 10;    // bytes that are given up for one failing read
constexpr std::uint64_t kLargestStep = 16 << 20;  // ... when many failed in a row

}  // namespace

Sparing::Sparing(MediumPtr whole, const std::vector<Extent>& known) : whole_(std::move(whole)) {
    for (const Extent& extent : known)
        if (extent.offset < size()) remember(extent.offset, std::min(extent.length, size() - extent.offset));
}

std::vector<Extent> Sparing::bad_areas() const {
    const std::shared_lock guard(lock_);
    std::vector<Extent> list;
    list.reserve(bad_.size());
    for (const auto& [from, to] : bad_) list.push_back({from, to - from});
    return list;
}

std::vector<Extent> Sparing::known_in(std::uint64_t offset, std::uint64_t length) const {
    const std::shared_lock guard(lock_);
    std::vector<Extent> list;
    if (bad_.empty()) return list;
    const std::uint64_t end = offset + length;
    auto area = bad_.upper_bound(offset);
    if (area != bad_.begin()) --area;
    for (; area != bad_.end() && area->first < end; ++area) {
        const std::uint64_t from = std::max(offset, area->first), to = std::min(end, area->second);
        if (from < to) list.push_back({from, to - from});
    }
    return list;
}

void Sparing::remember(std::uint64_t offset, std::uint64_t length) const {
    const std::unique_lock guard(lock_);
    std::uint64_t from = offset, to = offset + length;
    auto area = bad_.upper_bound(from);
    if (area != bad_.begin() && std::prev(area)->second >= from) --area;
    while (area != bad_.end() && area->first <= to) {
        from = std::min(from, area->first);
        to = std::max(to, area->second);
        area = bad_.erase(area);
    }
    bad_[from] = to;
}

void Sparing::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    std::vector<Extent> list;
    whole_->add_known_bad(offset, length, list);
    const auto own = known_in(offset, length);
    list.insert(list.end(), own.begin(), own.end());
    std::sort(list.begin(), list.end(), [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
    std::uint64_t reached = offset;
    for (const Extent& extent : list) {
        const std::uint64_t from = std::max(reached, extent.offset);
        if (extent.end() <= from) continue;
        bad.push_back({from, extent.end() - from});
        reached = extent.end();
    }
}

void Sparing::expect(std::uint64_t offset, std::uint64_t length) const {
    // What the kernel reads ahead would touch the bad areas once more.
    if (known_in(offset, length).empty()) whole_->expect(offset, length);
}

Result<void> Sparing::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    const auto known = known_in(offset, into.size());
    std::uint64_t at = offset;
    const auto read_to = [&](std::uint64_t to) {
        if (to > at) read_gently(at, into.subspan(at - offset, to - at), bad);
    };
    for (const Extent& lost : known) {
        read_to(lost.offset);
        const auto part = into.subspan(lost.offset - offset, lost.length);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back(lost);
        at = lost.end();
    }
    read_to(offset + into.size());
    return {};
}

void Sparing::read_gently(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (whole_->try_read(offset, into)) return;
    // Some of it is known to be bad without having to ask: an image with a map.
    std::vector<Extent> charted;
    whole_->add_known_bad(offset, into.size(), charted);
    if (!charted.empty()) {
        (void)whole_->read(offset, into, &bad);
        return;
    }
    const std::uint64_t end = offset + into.size();
    for (std::uint64_t at = offset; at < end;) {
        std::uint64_t step = std::min(end, (at / kFirstStep + 1) * kFirstStep) - at;
        auto part = into.subspan(at - offset, step);
        if (whole_->try_read(at, part)) {
            at += step;
            continue;
        }
        unsigned in_a_row = 0;
        {
            const std::unique_lock guard(lock_);
            in_a_row_ = at == failed_up_to_ ? in_a_row_ + 1 : 0;
            in_a_row = in_a_row_;
        }
        step = std::min(end - at, std::max(step, std::min(kLargestStep, kFirstStep << std::min(in_a_row, 8U))));
        part = into.subspan(at - offset, step);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back({at, step});
        remember(at, step);
        at += step;
        const std::unique_lock guard(lock_);
        failed_up_to_ = at;
    }
}

}  // namespace dredger

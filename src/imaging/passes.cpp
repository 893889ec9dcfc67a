#include "imaging/passes.h"

#include <algorithm>

#include "base/checked.h"

namespace dredger {
namespace {

constexpr std::uint64_t kLargestSkip = 256 << 20;  // bytes

}  // namespace

Passes::Passes(AreaMap& map, const PassOptions& options) : map_(map), options_(options) {
    range_.offset = std::min(options.range.offset, map.size());
    range_.length = std::min(map.size(), checked_add(options.range.offset, options.range.length).value_or(map.size())) -
                    range_.offset;
    position_ = options_.reverse ? range_.end() : range_.offset;
}

Extent Passes::first_of(AreaState state, std::uint64_t from) const {
    Extent area = map_.next(state, std::max(from, range_.offset));
    if (area.length == 0 || area.offset >= range_.end()) return {};
    area.length = std::min(area.length, range_.end() - area.offset);
    return area;
}

Extent Passes::last_of(AreaState state, std::uint64_t to) const {
    Extent area = map_.previous(state, std::min(to, range_.end()));
    if (area.length == 0 || area.end() <= range_.offset) return {};
    const std::uint64_t from = std::max(area.offset, range_.offset);
    return {from, area.end() - from};
}

std::optional<Extent> Passes::next() {
    std::optional<Extent> wanted;
    if (kind_ == Kind::large && !(wanted = next_large())) begin(Kind::ends);
    if (kind_ == Kind::ends && !wanted && !(wanted = next_end())) begin(Kind::single);
    if (kind_ == Kind::single && !wanted && !(wanted = next_single())) begin(Kind::again);
    if (kind_ == Kind::again && !wanted) wanted = next_again();
    return wanted;
}

void Passes::begin(Kind kind) {
    kind_ = kind;
    position_ = range_.offset;
}

std::optional<Extent> Passes::next_large() {
    for (;;) {
        const Extent area =
            options_.reverse ? last_of(AreaState::untried, position_) : first_of(AreaState::untried, position_);
        if (area.length > 0) {
            // Blocks lie at multiples of their size, whatever was read before.
            if (options_.reverse) {
                const std::uint64_t from = (area.end() - 1) / options_.block * options_.block;
                const std::uint64_t start = std::max(from, area.offset);
                return Extent{start, area.end() - start};
            }
            const std::uint64_t to = (area.offset / options_.block + 1) * options_.block;
            return Extent{area.offset, std::min(to, area.end()) - area.offset};
        }
        if (!skipping_) return std::nullopt;
        skipping_ = false;
        position_ = options_.reverse ? range_.end() : range_.offset;
    }
}

// The first sector of an area that was left, until one fails; then the last one, until one fails.
std::optional<Extent> Passes::next_end() {
    if (!closing_) {
        const Extent area = first_of(AreaState::left, position_);
        if (area.length == 0) return std::nullopt;
        closing_ = area;
        position_ = area.end();  // all in front of it is closed in on
        from_its_end_ = false;
    }
    const std::uint64_t sector = options_.sector;
    if (!from_its_end_) {
        const std::uint64_t to = (closing_->offset / sector + 1) * sector;
        return Extent{closing_->offset, std::min(to, closing_->end()) - closing_->offset};
    }
    const std::uint64_t from = std::max(closing_->offset, (closing_->end() - 1) / sector * sector);
    return Extent{from, closing_->end() - from};
}

std::optional<Extent> Passes::next_single() {
    const Extent area = first_of(AreaState::narrowed, position_);
    if (area.length == 0) return std::nullopt;
    const std::uint64_t to = (area.offset / options_.sector + 1) * options_.sector;
    return Extent{area.offset, std::min(to, area.end()) - area.offset};
}

std::optional<Extent> Passes::next_again() {
    while (round_at_ >= round_areas_.size()) {
        if (round_ >= options_.retries) return std::nullopt;
        ++round_;
        round_at_ = 0;
        round_areas_.clear();
        const std::uint64_t sector = options_.sector;
        for (const Extent& area : map_.areas_in(AreaState::bad))
            for (std::uint64_t at = std::max(area.offset, range_.offset); at < std::min(area.end(), range_.end());) {
                const std::uint64_t to = std::min({(at / sector + 1) * sector, area.end(), range_.end()});
                round_areas_.push_back({at, to - at});
                at = to;
            }
        if (round_areas_.empty()) return std::nullopt;
        if ((round_ % 2 == 1) != options_.reverse) std::reverse(round_areas_.begin(), round_areas_.end());
    }
    return round_areas_[round_at_];
}

void Passes::answer(const Extent& asked, bool was_read) {
    switch (kind_) {
        case Kind::large: {
            map_.set(asked.offset, asked.length, was_read ? AreaState::done : AreaState::left);
            skip_ = was_read ? 0 : std::min(kLargestSkip, std::max(skip_ * 2, options_.block));
            const std::uint64_t skip = skipping_ && !was_read && skip_ > options_.block ? skip_ : 0;
            if (options_.reverse)
                position_ = asked.offset - std::min(asked.offset, skip);
            else
                position_ = checked_add(asked.end(), skip).value_or(map_.size());
            break;
        }
        case Kind::ends: {
            map_.set(asked.offset, asked.length, was_read ? AreaState::done : AreaState::bad);
            Extent rest = *closing_;
            if (!from_its_end_) rest.offset = asked.end();
            rest.length = (from_its_end_ ? asked.offset : closing_->end()) - rest.offset;
            closing_ = rest;
            const bool over = rest.length == 0 || (!was_read && from_its_end_);
            if (!was_read) from_its_end_ = true;
            if (!over) break;
            if (rest.length > 0) map_.set(rest.offset, rest.length, AreaState::narrowed);
            closing_.reset();
            break;
        }
        case Kind::single:
            map_.set(asked.offset, asked.length, was_read ? AreaState::done : AreaState::bad);
            position_ = asked.end();
            break;
        case Kind::again:
            if (was_read) map_.set(asked.offset, asked.length, AreaState::done);
            ++round_at_;
            break;
    }
}

std::uint64_t Passes::left() const {
    const auto in_range = [&](AreaState state) {
        std::uint64_t sum = 0;
        for (const Extent& area : map_.areas_in(state)) {
            const std::uint64_t from = std::max(area.offset, range_.offset), to = std::min(area.end(), range_.end());
            if (from < to) sum += to - from;
        }
        return sum;
    };
    switch (kind_) {
        case Kind::large: return in_range(AreaState::untried);
        case Kind::ends: return in_range(AreaState::left);
        case Kind::single: return in_range(AreaState::narrowed);
        case Kind::again: break;
    }
    std::uint64_t sum = 0;
    for (std::size_t i = round_at_; i < round_areas_.size(); ++i) sum += round_areas_[i].length;
    return sum;
}

}  // namespace dredger

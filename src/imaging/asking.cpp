#include "imaging/asking.h"

#include <algorithm>

#include "base/checked.h"
#include "media/coverage.h"

namespace dredger {
namespace {

constexpr std::uint64_t kMostPutOff = 256 << 20;  // bytes
constexpr std::uint64_t kSmaller = 8;             // times, with each refusal

// In order, apart from each other, out to whole sectors, within `limits`.
std::vector<Extent> in_order(const std::vector<Extent>& places, std::uint64_t sector, const Extent& limits) {
    Coverage covered;
    for (const Extent& place : places) {
        const std::uint64_t from = std::max(limits.offset, place.offset / sector * sector);
        const std::uint64_t end = checked_add(place.offset, place.length).value_or(limits.end());
        const std::uint64_t to = std::min(limits.end(), checked_add(end, sector - 1).value_or(end) / sector * sector);
        if (from < to && place.is_stored() && place.length > 0) covered.add({from, to - from});
    }
    return covered.extents();
}

}  // namespace

Asking::Asking(AreaMap& map, const AskOptions& options, std::vector<std::vector<Extent>> worth)
    : map_(map), options_(options) {
    const std::uint64_t from = std::min(options.within.offset, map.size());
    const std::uint64_t to =
        std::min(map.size(), checked_add(options.within.offset, options.within.length).value_or(map.size()));
    const Extent limits{from, to - from};
    for (const auto& places : worth) ranks_.push_back(in_order(places, options.sector, limits));
    ranks_.push_back({limits});
    start_over();
}

std::uint64_t Asking::piece_after(unsigned refusals) const {
    std::uint64_t piece = options_.piece;
    for (; refusals > 0 && piece > options_.sector; --refusals) piece /= kSmaller;
    return std::max<std::uint64_t>(piece / options_.sector * options_.sector, options_.sector);
}

// Single sectors that were refused by themselves are asked for from the other side each time.
bool Asking::goes_backwards() const {
    unsigned as_single = 0;
    for (unsigned n = 1; n <= refusals_; ++n) as_single += piece_after(n - 1) == options_.sector ? 1 : 0;
    return options_.backwards != (as_single % 2 == 1);
}

void Asking::start_over() {
    position_ = goes_backwards() ? map_.size() : 0;
    distance_ = 0;
}

Extent Asking::first_waiting() const {
    const std::vector<Extent>& places = ranks_[rank_];
    if (goes_backwards()) {
        for (std::uint64_t at = position_;;) {
            const Extent area = map_.previous_refused(refusals_, at);
            if (area.length == 0) return {};
            const auto place =
                std::find_if(places.rbegin(), places.rend(), [&](const Extent& p) { return p.offset < area.end(); });
            if (place == places.rend()) return {};
            const std::uint64_t from = std::max(area.offset, place->offset), to = std::min(area.end(), place->end());
            if (from < to) return {from, to - from};
            at = place->end();
        }
    }
    for (std::uint64_t at = position_;;) {
        const Extent area = map_.next_refused(refusals_, at);
        if (area.length == 0) return {};
        const auto place = std::lower_bound(places.begin(), places.end(), area.offset,
                                            [](const Extent& p, std::uint64_t offset) { return p.end() <= offset; });
        if (place == places.end()) return {};
        const std::uint64_t from = std::max(area.offset, place->offset), to = std::min(area.end(), place->end());
        if (from < to) return {from, to - from};
        at = place->offset;
    }
}

std::optional<Extent> Asking::next() {
    while (refusals_ < options_.asks) {
        if (const Extent area = first_waiting(); area.length > 0) {
            // Pieces lie at multiples of their size, whatever was read before.
            const std::uint64_t piece = piece_after(refusals_);
            if (goes_backwards()) {
                const std::uint64_t from = std::max((area.end() - 1) / piece * piece, area.offset);
                return Extent{from, area.end() - from};
            }
            return Extent{area.offset, std::min((area.offset / piece + 1) * piece, area.end()) - area.offset};
        }
        if (!is_second_look_) {
            is_second_look_ = true;
        } else {
            is_second_look_ = false;
            rank_ = rank_ + 1 < ranks_.size() ? rank_ + 1 : 0;
            if (rank_ == 0) ++refusals_;
        }
        start_over();
    }
    return std::nullopt;
}

void Asking::answer(const Extent& asked, bool came, std::chrono::milliseconds took) {
    map_.answer(asked, came, took);
    put_off(asked, came && took < kPrompt);
}

void Asking::put_off(const Extent& asked, bool was_prompt) {
    const std::uint64_t piece = piece_after(refusals_);
    distance_ = was_prompt ? 0 : std::min(kMostPutOff, std::max(distance_ * 2, piece));
    const std::uint64_t further = !is_second_look_ && distance_ > piece ? distance_ : 0;
    if (goes_backwards())
        position_ = asked.offset - std::min(asked.offset, further);
    else
        position_ = checked_add(asked.end(), further).value_or(map_.size());
}

std::uint64_t Asking::left() const {
    std::uint64_t sum = 0;
    for (const Extent& place : ranks_[rank_])
        for (std::uint64_t at = place.offset; at < place.end();) {
            const Extent area = map_.next_refused(refusals_, at);
            if (area.length == 0 || area.offset >= place.end()) break;
            sum += std::min(area.end(), place.end()) - area.offset;
            at = area.end();
        }
    return sum;
}

}  // namespace dredger

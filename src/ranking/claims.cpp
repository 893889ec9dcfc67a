#include "ranking/claims.h"

#include <algorithm>

namespace dredger {
namespace {

constexpr std::size_t kMaxVisited = 4096;  // claims looked at for one place

}  // namespace

void Claims::add(const Claim& claim) {
    if (claim.where.is_stored()) (claim.live ? live_ : others_).claims.push_back(claim);
}

void Claims::seal() {
    live_.seal();
    others_.seal();
}

void Claims::List::seal() {
    std::stable_sort(claims.begin(), claims.end(),
                     [](const Claim& a, const Claim& b) { return a.where.offset < b.where.offset; });
    reach.clear();
    reach.reserve(claims.size());
    std::uint64_t furthest = 0;
    for (const Claim& claim : claims) reach.push_back(furthest = std::max(furthest, claim.where.end()));
}

void Claims::List::visit(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visitor) const {
    // The first claim that reaches into the place; from there on until claims begin behind it.
    auto at = static_cast<std::size_t>(std::upper_bound(reach.begin(), reach.end(), where.offset) - reach.begin());
    for (std::size_t seen = 0; at < claims.size() && seen < kMaxVisited; ++at, ++seen) {
        const Claim& claim = claims[at];
        if (claim.where.offset >= where.end()) break;
        const std::uint64_t first = std::max(claim.where.offset, where.offset);
        const std::uint64_t last = std::min(claim.where.end(), where.end());
        if (first < last) visitor(claim, {first, last - first});
    }
}

void Claims::live_in(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visit) const {
    live_.visit(where, visit);
}

void Claims::others_in(const Extent& where, const std::function<void(const Claim&, const Extent&)>& visit) const {
    others_.visit(where, visit);
}

}  // namespace dredger

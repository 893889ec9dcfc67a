#include "media/images/runs.h"

#include <algorithm>

namespace dredger {

Runs::Runs(std::string name, std::vector<Run> runs)
    : Translated(std::move(name), runs.empty() ? 0 : runs.back().start + runs.back().length, 512),
      runs_(std::move(runs)) {}

Result<Place> Runs::place_of(std::uint64_t offset) const {
    auto run = std::upper_bound(runs_.begin(), runs_.end(), offset,
                                [](std::uint64_t at, const Run& r) { return at < r.start; });
    --run;
    const std::uint64_t skip = offset - run->start;
    Place place;
    place.length = run->length - skip;
    if (run->is_lost) {
        place.unpacked = std::make_shared<const std::vector<std::byte>>();
    } else if (run->unpack) {
        auto unpacked = unpacked_.get(run->start, run->unpack);
        place.unpacked = unpacked ? *unpacked : std::make_shared<const std::vector<std::byte>>();
    } else {
        place.on = run->on;
        place.offset = run->offset + skip;
        return place;
    }
    // What can't be unpacked is lost as a whole, and so is what it should be longer.
    place.offset = skip;
    if (skip < place.unpacked->size())
        place.length = std::min<std::uint64_t>(place.length, place.unpacked->size() - skip);
    return place;
}

}  // namespace dredger

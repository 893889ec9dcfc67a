#include "scanning/bad_areas.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/amounts.h"
#include "ranking/bands.h"

namespace dredger {
namespace {

constexpr std::string_view kReason = " of it lie where the medium can't be read";

// What is lost has a share in the prospect already where an earlier scan counted it.
void count_lost(Candidate& candidate, std::uint64_t lost) {
    Prospect& prospect = candidate.prospect;
    std::erase_if(prospect.reasons, [](const std::string& reason) { return reason.ends_with(kReason); });
    prospect.reasons.push_back(fmt::format("{} bytes{}", lost, kReason));
    const double left = candidate.record.size == 0
                            ? 100
                            : 100 - 100 * static_cast<double>(std::min(lost, candidate.record.size)) /
                                        static_cast<double>(candidate.record.size);
    prospect.value = std::min(prospect.value, static_cast<int>(left));
    prospect.band = std::max(prospect.band, std::max(band_for(prospect.value), Band::patchy));
    prospect.check = prospect.check == Check::verified ? Check::damaged : prospect.check;
}

}  // namespace

Result<void> count_bad_areas(Catalog& catalog, std::int64_t source, const Sparing& medium, Observer& observer) {
    std::vector<Extent> bad;
    medium.add_known_bad(0, medium.size(), bad);
    if (bad.empty()) return {};
    // Without those that the map of an image tells of: a later copy may have them.
    DREDGER_CHECK(catalog.save_bad_areas(source, medium.bad_areas()));
    const Coverage unreadable(bad);
    std::uint64_t bytes = 0;
    for (const Extent& area : bad) bytes += area.length;

    std::map<std::int64_t, std::uint64_t> lost;  // bytes by candidate
    DREDGER_CHECK(catalog.each_stored_extent(source, [&](std::int64_t candidate, const Extent& extent) {
        for (const Extent& part : unreadable.within(extent.offset, extent.length)) lost[candidate] += part.length;
    }));
    DREDGER_CHECK(catalog.begin());
    for (const auto& [id, count] : lost) {
        DREDGER_TRY(auto candidate, catalog.find(id));
        if (!candidate || candidate->record.is_folder) continue;
        count_lost(*candidate, count);
        DREDGER_CHECK(catalog.update(*candidate));
    }
    DREDGER_CHECK(catalog.summarise());
    DREDGER_CHECK(catalog.commit());
    observer.warning(fmt::format("{} in {} can't be read; what lies there counts as lost in {}", size_text(bytes),
                                 bad.size() == 1 ? "one area" : fmt::format("{} areas", bad.size()),
                                 lost.size() == 1 ? "one prospect" : fmt::format("{} prospects", lost.size())));
    return {};
}

}  // namespace dredger

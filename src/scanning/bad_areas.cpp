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

// Few reads, spread over it: where the medium is dying, it is not asked for more.
bool answers_in(const Medium& medium, const Extent& area) {
    constexpr std::uint64_t kSteps = 2;
    const std::uint64_t last = area.length - std::min<std::uint64_t>(area.length, medium.sector_size());
    for (std::uint64_t n = 0; n <= kSteps; ++n)
        if (medium.answers_at(area.offset + last / kSteps * n)) return true;
    return false;
}

bool touches(const Volume& place, const Coverage& areas) {
    const auto pieces = place.pieces.empty() ? std::vector<Extent>{{place.offset, place.length}} : place.pieces;
    return std::any_of(pieces.begin(), pieces.end(),
                       [&](const Extent& piece) { return !areas.within(piece.offset, piece.length).empty(); });
}

Coverage known_bad(const Medium& medium) {
    std::vector<Extent> bad;
    medium.add_known_bad(0, medium.size(), bad);
    return Coverage(bad);
}

}  // namespace

Result<Coverage> ask_again(Catalog& catalog, std::int64_t source, const Medium& medium, bool also_what_failed) {
    const Coverage charted = known_bad(medium);
    DREDGER_TRY(const std::vector<Extent> once_charted, catalog.bad_areas(source, Store::ToldBy::map));
    Coverage answering = Coverage(once_charted).without(charted), still_bad;
    DREDGER_TRY(const std::vector<Extent> failed, catalog.bad_areas(source));
    for (const Extent& area : failed) (also_what_failed && answers_in(medium, area) ? answering : still_bad).add(area);
    if (answering.empty()) return answering;

    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::vector<std::int64_t> touched;
    for (const ScannedVolume& volume : volumes)
        if (volume.source == source && volume.find == 0 && touches(volume.place, answering))
            touched.push_back(volume.id);
    DREDGER_CHECK(catalog.begin());
    DREDGER_CHECK(catalog.expect_more_of(touched));
    DREDGER_CHECK(catalog.save_bad_areas(source, still_bad.extents()));
    DREDGER_CHECK(catalog.save_bad_areas(source, charted.extents(), Store::ToldBy::map));
    DREDGER_CHECK(catalog.commit());
    return answering;
}

Result<Coverage> count_bad_areas(Catalog& catalog, std::int64_t source, const Sparing& medium, Observer& observer) {
    Coverage unreadable = known_bad(medium);
    if (unreadable.empty()) return unreadable;
    const Coverage failed(medium.bad_areas());
    DREDGER_CHECK(catalog.begin());
    DREDGER_CHECK(catalog.save_bad_areas(source, failed.extents()));
    DREDGER_CHECK(catalog.save_bad_areas(source, unreadable.without(failed).extents(), Store::ToldBy::map));
    DREDGER_CHECK(catalog.commit());

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
    const std::size_t areas = unreadable.extents().size();
    observer.warning(fmt::format("{} in {} can't be read; what lies there counts as lost in {}{}",
                                 size_text(unreadable.bytes()),
                                 areas == 1 ? "one area" : fmt::format("{} areas", areas),
                                 lost.size() == 1 ? "one prospect" : fmt::format("{} prospects", lost.size()),
                                 failed.empty() ? "" : "; with --again it is asked for once more"));
    return unreadable;
}

}  // namespace dredger

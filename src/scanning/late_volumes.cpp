#include "scanning/late_volumes.h"

#include <algorithm>
#include <fmt/format.h>

#include "carving/coverage.h"
#include "filesystems/filesystem.h"
#include "scanning/deep_scan.h"
#include "scanning/volume_scan.h"
#include "volumes/containers.h"
#include "volumes/lost.h"

namespace dredger {
namespace {

// Finds by content that records of `volume` tell of: they begin where its files do, or within one that is right.
Result<std::uint64_t> remove_known_finds(Catalog& catalog, const ScannedVolume& volume) {
    std::set<std::uint64_t> starts;
    Coverage proven;
    std::int64_t last = 0;
    DREDGER_CHECK(catalog.each_piece(volume.id, [&](std::int64_t candidate, const Extent& piece, bool is_proven) {
        if (candidate != last && piece.is_stored()) starts.insert(piece.offset);
        if (is_proven && piece.is_stored()) proven.add(piece);
        last = candidate;
    }));
    Selection by_content;
    by_content.origins = {Origin::signature};
    DREDGER_TRY(const auto volumes, catalog.volumes());
    for (const ScannedVolume& other : volumes)
        if (other.source == volume.source) by_content.volumes.insert(other.id);
    std::vector<std::int64_t> known;
    DREDGER_CHECK(catalog.each(by_content, Order{}, true, [&](const Candidate& find) {
        const auto& pieces = find.record.layout.extents;
        if (!pieces.empty() && (starts.contains(pieces.front().offset) || proven.covers(pieces.front().offset)))
            known.push_back(find.id);
        return true;
    }));
    DREDGER_CHECK(catalog.begin());
    DREDGER_CHECK(catalog.remove_finds(known));
    DREDGER_CHECK(catalog.commit());
    return known.size();
}

}  // namespace

Result<bool> scan_late_volumes(Catalog& catalog, const ScanRequest& request, Observer& observer,
                               const MediumPtr& medium, std::int64_t source, std::vector<VolumeTrace> traces,
                               PartitionMap& map, ScanReport& report) {
    const std::size_t before = map.volumes.size();
    add_traced_volumes(*medium, std::move(traces), map);
    for (std::size_t i = before; i < map.volumes.size(); ++i) {
        const Volume place = map.volumes[i];
        DREDGER_TRY(const std::string holder, catalog.path_of_holder(source, {place.offset, place.length}));
        if (!holder.empty()) {
            observer.warning(fmt::format("{} holds the image of a medium ({}): restore it and scan it by itself",
                                         holder, place.type));
            continue;
        }
        if (observer.should_stop()) return false;
        const MediumPtr volume = open_volume(medium, place);
        const auto opened = open_filesystem(volume);
        if (!opened || !*opened) continue;
        DREDGER_TRY(const auto known, catalog.volumes());
        DREDGER_TRY(
            const VolumeScan::Outcome outcome,
            VolumeScan(catalog, request, observer).run(source, place, volume, **opened, row_of(known, source, place)));
        report.volumes.push_back(outcome.report);
        if (outcome.interrupted) return false;
        // Its ground has been searched; what its records tell of has not been read.
        ScanRequest verify = request;
        verify.deep = false;
        DREDGER_TRY(const auto scanned, catalog.volumes());
        const ScannedVolume row = *row_of(scanned, source, place);
        DREDGER_TRY(const DeepScan::Outcome checked, DeepScan(catalog, verify, observer).run(medium, row, {}));
        if (checked.stopped) return false;
        DREDGER_TRY(const std::uint64_t told, remove_known_finds(catalog, row));
        for (SurfaceReport& surface : report.surfaces) {
            const std::uint64_t moved = std::min(told, surface.finds);
            if (place.offset < surface.offset || moved == 0) continue;
            surface.finds -= moved;
            surface.merged += moved;
            break;
        }
    }
    return true;
}

}  // namespace dredger

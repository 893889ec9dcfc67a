#include "scanning/late_volumes.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/filesystem.h"
#include "scanning/deep_scan.h"
#include "scanning/told_finds.h"
#include "scanning/volume_scan.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"
#include "volumes/lost.h"

namespace dredger {

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
        WantedFinds nothing({}, 0);
        DREDGER_TRY(const DeepScan::Outcome checked, DeepScan(catalog, verify, nothing, observer).run(medium, row, {}));
        if (checked.stopped) return false;
        DREDGER_TRY(const std::uint64_t told, remove_finds_told_by(catalog, row));
        count_as_told(told, place.offset, report);
    }
    return true;
}

}  // namespace dredger

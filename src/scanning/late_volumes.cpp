#include "scanning/late_volumes.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/filesystem.h"
#include "scanning/deep_scan.h"
#include "scanning/told_finds.h"
#include "scanning/volume_scan.h"
#include "volumes/containers.h"
#include "volumes/lost.h"
#include "volumes/mapping.h"

namespace dredger {

Result<bool> scan_late_volumes(ScanSession& session, std::vector<VolumeTrace> traces, PartitionMap& map) {
    const MediumPtr& medium = session.medium;
    const std::size_t before = map.volumes.size();
    add_traced_volumes(*medium, std::move(traces), map);
    for (std::size_t i = before; i < map.volumes.size(); ++i) {
        const Volume place = map.volumes[i];
        DREDGER_TRY(const std::string holder,
                    session.catalog.path_of_holder(session.source, {place.offset, place.length}));
        if (!holder.empty()) {
            session.observer.warning(fmt::format(
                "{} holds the image of a medium ({}): restore it and scan it by itself", holder, place.type));
            continue;
        }
        if (session.observer.should_stop()) return false;
        const MediumPtr volume = open_volume(medium, place);
        const auto opened = open_filesystem(volume);
        if (!opened || !*opened) continue;
        DREDGER_TRY(const VolumeScan::Outcome outcome, VolumeScan(session).run(place, volume, **opened));
        session.report.volumes.push_back(outcome.report);
        if (outcome.interrupted) return false;
        // Its ground has been searched; what its records tell of has not been read.
        ScanRequest verify = session.request;
        verify.deep = false;
        DREDGER_TRY(const auto row, session.known(place));
        DREDGER_TRY(const DeepScan::Outcome checked, DeepScan(session, verify).run(*row));
        if (checked.stopped) return false;
        DREDGER_TRY(const std::uint64_t told, remove_finds_told_by(session.catalog, *row));
        count_as_told(told, place.offset, session.report);
    }
    return true;
}

}  // namespace dredger

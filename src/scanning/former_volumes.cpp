#include "scanning/former_volumes.h"

#include <fmt/format.h>

#include "filesystems/filesystem.h"
#include "scanning/volume_scan.h"

namespace dredger {

Result<bool> scan_former_volumes(ScanSession& session, const Volume& place, const MediumPtr& volume,
                                 const FileSystem& today, unsigned number, std::vector<Volume>& found) {
    for (const auto& former : former_filesystems(volume, today)) {
        if (session.observer.should_stop()) return false;
        DREDGER_TRY(const auto row, session.known(place));
        if (!row) return true;
        Volume lost = place;
        lost.number = number + static_cast<unsigned>(found.size());
        lost.table = TableKind::lost;
        lost.type = former->facts().filesystem;
        lost.name = former->facts().label;
        lost.evidence = fmt::format("volume {} was formatted with {} since", place.number, today.facts().filesystem);
        VolumeScan scan(session);
        scan.lies_under(today, *row);
        DREDGER_TRY(VolumeScan::Outcome outcome, scan.run(lost, volume, *former));
        if (outcome.interrupted) return false;
        outcome.report.formatted_since = place.number;
        // What is left of it may be nothing: then it is not worth a word.
        const VolumeReport& told = outcome.report;
        if (told.deleted + told.trashed + told.live > 0 || told.was_done_before)
            session.report.volumes.push_back(outcome.report);
        found.push_back(std::move(lost));
    }
    return true;
}

}  // namespace dredger

#include "scanning/former_volumes.h"

#include <fmt/format.h>

#include "filesystems/filesystem.h"
#include "scanning/volume_scan.h"

namespace dredger {

Result<bool> scan_former_volumes(Catalog& catalog, const ScanRequest& request, Observer& observer, std::int64_t source,
                                 const Volume& place, const MediumPtr& volume, const FileSystem& today, unsigned number,
                                 std::vector<Volume>& found, ScanReport& report) {
    for (const auto& former : former_filesystems(volume, today)) {
        if (observer.should_stop()) return false;
        DREDGER_TRY(const auto known, catalog.volumes());
        const ScannedVolume* row = row_of(known, source, place);
        if (row == nullptr) return true;
        Volume lost = place;
        lost.number = number + static_cast<unsigned>(found.size());
        lost.table = TableKind::lost;
        lost.type = former->facts().filesystem;
        lost.name = former->facts().label;
        lost.evidence = fmt::format("volume {} was formatted with {} since", place.number, today.facts().filesystem);
        VolumeScan scan(catalog, request, observer);
        scan.lies_under(today, *row);
        DREDGER_TRY(VolumeScan::Outcome outcome, scan.run(source, lost, volume, *former, row_of(known, source, lost)));
        if (outcome.interrupted) return false;
        outcome.report.formatted_since = place.number;
        // What is left of it may be nothing: then it is not worth a word.
        const VolumeReport& told = outcome.report;
        if (told.deleted + told.trashed + told.live > 0 || told.was_done_before)
            report.volumes.push_back(outcome.report);
        found.push_back(std::move(lost));
    }
    return true;
}

}  // namespace dredger

// Volumes that nothing at likely places tells of: what the search of the surface saw of them on its way leads to their
// records, as with any other volume, and what was found of their files by content is theirs.
#pragma once

#include "catalog/catalog.h"
#include "scanning/scan.h"
#include "volumes/volume.h"

namespace dredger {

// `map`: the volumes whose records are in the catalog, all of `source`; the new ones are added to it. False: stopped.
Result<bool> scan_late_volumes(Catalog& catalog, const ScanRequest& request, Observer& observer,
                               const MediumPtr& medium, std::int64_t source, std::vector<VolumeTrace> traces,
                               PartitionMap& map, ScanReport& report);

}  // namespace dredger

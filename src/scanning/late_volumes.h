// Volumes that nothing at likely places tells of: what the search of the surface saw of them on its way leads to their
// records, as with any other volume, and what was found of their files by content is theirs.
#pragma once

#include "scanning/scan_session.h"
#include "volumes/volume.h"

namespace dredger {

// `map`: the volumes whose records are in the catalog, all of the session's source; the new ones are added to it.
// False: stopped.
Result<bool> scan_late_volumes(ScanSession& session, std::vector<VolumeTrace> traces, PartitionMap& map);

}  // namespace dredger

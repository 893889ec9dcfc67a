// What a volume held before it was formatted with a file system of another kind: each such life is a lost volume of its
// own in the same place.
#pragma once

#include "scanning/scan_session.h"
#include "volumes/volume.h"

namespace dredger {

// `today`: what was opened at `place`, whose records are in the catalog. The former volumes are added to `found`,
// numbered from `number` on. False: stopped.
Result<bool> scan_former_volumes(ScanSession& session, const Volume& place, const MediumPtr& volume,
                                 const FileSystem& today, unsigned number, std::vector<Volume>& found);

}  // namespace dredger

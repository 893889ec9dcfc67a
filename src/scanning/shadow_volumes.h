// The shadow copies that a volume keeps of itself: each is walked as a volume of its own, at a point in time.
#pragma once

#include "scanning/scan_session.h"

namespace dredger {

// Numbers them from `number` on. True: done; false: the observer stopped it.
Result<bool> scan_shadow_volumes(ScanSession& session, const Volume& place, const MediumPtr& volume,
                                 const FileSystem& today, unsigned& number);

}  // namespace dredger

// All volumes of a medium: those that its partition table tells of, and lost ones.
#pragma once

#include "base/observer.h"
#include "volumes/lost.h"

namespace dredger {

// A medium whose file systems can all be opened is looked through at likely places only in its gaps. None where the
// observer stopped it.
Result<std::optional<PartitionMap>> volumes_of(const MediumPtr& medium, Observer& observer);

}  // namespace dredger

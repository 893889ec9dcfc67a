// What can't be read of a medium, in the catalog and in the prospects of what lies there.
#pragma once

#include "base/observer.h"
#include "catalog/catalog.h"
#include "media/sparing.h"

namespace dredger {

// Keeps the areas that turned out to be unreadable, and lowers the prospects of all candidates of the source with a
// part in these or in those that the map of an image tells of.
Result<void> count_bad_areas(Catalog& catalog, std::int64_t source, const Sparing& medium, Observer& observer);

}  // namespace dredger

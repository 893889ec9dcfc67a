// What can't be read of a medium, in the catalog and in the prospects of what lies there.
#pragma once

#include "base/observer.h"
#include "catalog/catalog.h"
#include "media/sparing.h"

namespace dredger {

// What an earlier scan could not read and can be read now: what a copy holds that was completed since; and, where what
// failed is to be asked for, too, each area that answers anywhere: it is asked here and there. What was made of the
// volumes that these touch is to be made anew. Returns these areas.
Result<Coverage> ask_again(Catalog& catalog, std::int64_t source, const Medium& medium, bool also_what_failed);

// Keeps the areas that turned out to be unreadable, and lowers the prospects of all candidates of the source with a
// part in these or in those that the map of an image tells of. Returns all these areas.
Result<Coverage> count_bad_areas(Catalog& catalog, std::int64_t source, const Sparing& medium, Observer& observer);

}  // namespace dredger

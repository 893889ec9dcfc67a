// What each file of a medium is to another one: autosaves, backups, versions and the like, with their documents.
#pragma once

#include "base/observer.h"
#include "catalog/catalog.h"
#include "lives/habit.h"

namespace dredger {

// Looks at all records of the source, and into the content of what may be a copy; what was known before is forgotten.
// True: done; false: the observer stopped it, and the next scan does it.
Result<bool> tell_copies(Catalog& catalog, std::int64_t source, const MediumPtr& medium, const lives::Habits& habits,
                         Observer& observer);

}  // namespace dredger

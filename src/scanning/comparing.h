// Finds out which files of a medium have the same content, so that each needs to be looked at only once.
#pragma once

#include <unordered_map>

#include "base/digest.h"
#include "base/observer.h"
#include "catalog/catalog.h"

namespace dredger {

// Of finds whose content was seen on the way, by candidate.
using Fingerprints = std::unordered_map<std::int64_t, Fingerprint>;

// Compares files of the same size, live ones too where a deleted one has their size. Does nothing where no candidate
// was added since the last time. True: done; false: the observer stopped it, and the next time begins anew.
Result<bool> compare_contents(Catalog& catalog, std::int64_t source, const MediumPtr& medium, const Fingerprints& seen,
                              Observer& observer);

}  // namespace dredger

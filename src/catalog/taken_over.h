// Which bytes of a file that is gone are another's now: live files lie on their place.
#pragma once

#include "catalog/catalog.h"

namespace dredger {

struct TakenOver {
    Extent range;      // of the file, not of the medium
    std::string path;  // of the live file
};

// In the order of `Catalog::overlapping`, and ranges may overlap. Empty for files that are packed: there no byte of the
// medium is one of the file.
Result<std::vector<TakenOver>> taken_over(const Catalog& catalog, const Candidate& candidate);

}  // namespace dredger

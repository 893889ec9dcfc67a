// What a report shows of a catalog.
#pragma once

#include "catalog/catalog.h"
#include "media/coverage.h"
#include "reporting/figure.h"

namespace dredger::reporting {

// Where the medium's volumes lie, what is live on them, and where the finds are.
Result<Figure> medium_map(const Catalog& catalog, const ScannedSource& source, const Coverage& unreadable);
// How many finds of each kind, by band.
Result<Figure> kinds_figure(const Catalog& catalog, const Selection& selection);
// When what is gone was deleted, by month; where that is not recorded, when it was last changed.
Result<Figure> deletions_figure(const Catalog& catalog, const Selection& selection);

}  // namespace dredger::reporting

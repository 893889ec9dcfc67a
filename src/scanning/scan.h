// What happens in a scan, in order: source, volumes, file system, records, prospects, catalog.
#pragma once

#include "base/observer.h"
#include "catalog/catalog.h"
#include "media/opened.h"
#include "scanning/scan_report.h"
#include "scanning/scan_request.h"

namespace dredger {

// Goes on where an earlier scan into the same catalog stopped; volumes that are done are not read again.
Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer);
// The same of a source that is open already: opening a packed one reads all of it.
Result<ScanReport> scan(Catalog& catalog, const OpenedMedium& opened, const ScanRequest& request, Observer& observer);

}  // namespace dredger

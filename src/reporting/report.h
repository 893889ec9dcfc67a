// A report on a catalog: a page with figures that needs nothing beside it, the figures, and the finds as DFXML.
#pragma once

#include <filesystem>

#include "base/observer.h"
#include "catalog/catalog.h"

namespace dredger {

struct ReportRequest {
    Selection selection;
    std::filesystem::path destination;
    std::filesystem::path restored;  // a folder that dredger restore wrote; empty: none is told of
    std::string version;             // of the program
    std::string made;                // when, for the page
    std::string shop;                // whose report it is; empty: nobody says
};

// Writes report.html, finds.dfxml and the figures below the destination; the page's path. Stopped by the observer, it
// leaves a page that says what is missing.
Result<std::filesystem::path> write_report(const Catalog& catalog, const ReportRequest& request, Observer& observer);

}  // namespace dredger

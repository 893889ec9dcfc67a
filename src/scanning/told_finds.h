// Finds by content in one stretch that records of another volume tell of: a lost one, or what a volume held before.
#pragma once

#include "catalog/catalog.h"
#include "scanning/scan_report.h"

namespace dredger {

// Takes back the finds of the same source that begin where a file of `volume` does, or within one that is right. How
// many.
Result<std::uint64_t> remove_finds_told_by(Catalog& catalog, const ScannedVolume& volume);

// Counts them so in the report of the stretch around byte `offset` of the medium.
void count_as_told(std::uint64_t finds, std::uint64_t offset, ScanReport& report);

}  // namespace dredger

// What happens in a scan, in order: source, volumes, file system, records, prospects, catalog.
#pragma once

#include <filesystem>
#include <set>
#include <string>
#include <vector>

#include "base/observer.h"
#include "bins/contents.h"
#include "catalog/catalog.h"

namespace dredger {

struct ScanRequest {
    std::filesystem::path source;
    std::set<unsigned> volumes;  // by number; empty: all
    // What is kept of the files that are not live; empty: everything. Live ones are always kept: they tell who
    // overwrote what.
    std::string folder;  // original folder; what lies below it counts too; letter case ignored
    std::set<Kind> kinds;
    std::vector<std::string> extensions;   // lower case
    CodePage code_page = CodePage::cp850;  // of short names
};

struct VolumeReport {
    unsigned number = 0;
    std::string filesystem;  // empty: not recognised, and left alone
    std::string label;
    std::uint64_t live = 0;  // records
    std::uint64_t deleted = 0;
    std::uint64_t trashed = 0;
    BinContents bins;
    bool was_done_before = false;
};

struct ScanReport {
    std::vector<VolumeReport> volumes;
    bool interrupted = false;
};

// Goes on where an earlier scan into the same catalog stopped; volumes that are done are not read again.
Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer);

}  // namespace dredger

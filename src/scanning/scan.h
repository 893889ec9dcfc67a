// What happens in a scan, in order: source, volumes, file system, records, prospects, catalog.
#pragma once

#include <filesystem>
#include <set>
#include <string>
#include <vector>

#include "base/observer.h"
#include "bins/contents.h"
#include "catalog/catalog.h"
#include "media/opened.h"

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

    bool verify = false;         // the contents of what records tell of are read and checked
    bool deep = false;           // also the content: the surface is searched, and what records tell is checked
    bool whole_surface = false;  // not only what the space maps call free
    bool every_offset = false;   // look for content not only where sectors begin
    bool inside = false;         // also within files that were found whole
    std::vector<std::string> formats = {};    // names; empty: all
    std::vector<const Format*> further = {};  // the user's own formats
    std::string until_name = {};              // a glob: the deep scan ends when a find has such a name
    std::uint64_t until_count = 0;            // ... or when there are so many finds; 0: never
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
    bool is_lost = false;          // no table tells of it: what was live there is what is looked for
    unsigned formatted_since = 0;  // the volume that was put over it; 0: none was
};

// What the deep scan of a volume, or of what lies outside of them, came to.
struct SurfaceReport {
    unsigned number = 0;         // of the volume; 0: outside of them
    std::uint64_t offset = 0;    // on the medium
    std::uint64_t searched = 0;  // bytes of the surface
    std::uint64_t checked = 0;   // records whose content was checked
    std::uint64_t finds = 0;     // files that no record tells of
    std::uint64_t merged = 0;    // finds that a record tells of
    std::uint64_t dropped = 0;   // starts that turned out to be nonsense
    std::uint64_t given_up = 0;  // starts that cost more to follow than they can be worth
    bool was_done_before = false;
    bool is_whole = false;       // searched as a whole, not only what is free
    bool has_no_ground = false;  // only its records are looked at
};

struct ScanReport {
    std::vector<VolumeReport> volumes;
    std::vector<SurfaceReport> surfaces;
    bool is_over = false;  // what was wanted has turned up
    bool interrupted = false;
};

// Goes on where an earlier scan into the same catalog stopped; volumes that are done are not read again.
Result<ScanReport> scan(Catalog& catalog, const ScanRequest& request, Observer& observer);
// The same of a source that is open already: opening a packed one reads all of it.
Result<ScanReport> scan(Catalog& catalog, const OpenedMedium& opened, const ScanRequest& request, Observer& observer);

}  // namespace dredger

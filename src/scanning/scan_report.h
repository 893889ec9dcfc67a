// What a scan came to.
#pragma once

#include <string>
#include <vector>

#include "bins/contents.h"

namespace dredger {

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
    bool is_mountable = true;      // otherwise the same
    bool is_store = false;         // a mail store
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
    std::uint64_t unreadable = 0;     // bytes of the medium
    std::uint64_t answered_anew = 0;  // bytes that an earlier scan could not read and this one was to ask for again
};

}  // namespace dredger

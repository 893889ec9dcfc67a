// Volume shadow copies of NTFS: states of a volume at points in time, of which the blocks that were changed since are
// kept in files on the volume itself. Source: the publicly documented on-disk format of version 1 and 2; the fields
// that are used and how a block is found are in shadow.cpp.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/times.h"
#include "media/medium.h"

namespace dredger {

struct ShadowCopy {
    std::optional<FileTime> made;  // nothing where only its store is left
    std::uint64_t size = 0;        // bytes of the volume then
    std::uint64_t store = 0;  // where its store begins, in bytes from the start of the volume: names it on a medium
    // All that was kept for it, and for the later ones through which it is read, was found.
    bool is_whole = true;
    // Where its bytes lie on today's volume, in order: what was changed since in stores, all else in its old place.
    std::vector<Extent> pieces;
};

struct ShadowCopies {
    std::vector<ShadowCopy> copies;     // the oldest first
    std::vector<std::string> warnings;  // what is damaged, a sentence each
    bool lacks_catalog = false;         // there were copies, and what names them is lost, in part or in full
};

// Those that the catalog on the volume names; damage costs what is in it. None where there is no catalog.
ShadowCopies find_shadow_copies(const Medium& volume);

// A file on the volume that holds stores, and when it was made. They are called
// "{GUID}{3808876b-c176-4e48-b7ae-04046e6cc752}", the catalog's without the first part.
struct ShadowFile {
    std::vector<Extent> extents;  // on the volume, in bytes
    std::optional<FileTime> made;
};
// Those whose stores are still told by their blocks, as well, for where the catalog is lost. Looks through `files`, or
// through the whole volume where there are none. `go_on` is asked now and then, with bytes done and in all.
ShadowCopies find_lost_shadow_copies(const Medium& volume, std::span<const ShadowFile> files,
                                     const std::function<bool(std::uint64_t, std::uint64_t)>& go_on);

}  // namespace dredger

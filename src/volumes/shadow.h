// Volume shadow copies of NTFS: states of a volume at points in time, of which the blocks that were changed since are
// kept in files on the volume itself. Source: the publicly documented on-disk format of version 1 and 2; the fields
// that are used and how a block is found are in shadow.cpp.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/times.h"
#include "media/medium.h"

namespace dredger {

struct ShadowCopy {
    std::string id;  // the store's GUID
    std::optional<FileTime> made;
    std::uint64_t size = 0;   // bytes of the volume then
    std::uint64_t store = 0;  // where its store begins, in bytes from the start of the volume: names it on a medium
    std::uint64_t kept = 0;   // bytes of the blocks that its own store keeps
    // Where its bytes lie on today's volume, in order: what was changed since in stores, all else in its old place.
    std::vector<Extent> pieces;
};

struct ShadowCopies {
    std::vector<ShadowCopy> copies;     // the oldest first
    std::vector<std::string> warnings;  // what is damaged, a sentence each
};

// Those that the catalog on the volume names; damage costs what is in it. None where there is no catalog.
ShadowCopies find_shadow_copies(const Medium& volume);

}  // namespace dredger

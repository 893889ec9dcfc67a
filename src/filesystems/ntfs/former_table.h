// File tables of earlier lives of a volume that was formatted again: their records stand where today's table does not.
#pragma once

#include <vector>

#include "filesystems/ntfs/geometry.h"
#include "filesystems/ntfs/mft.h"

namespace dredger::ntfs {

struct FormerTable {
    Geometry geometry;            // with the cluster size that its own records tell
    std::vector<Extent> extents;  // of the table, on the volume; holes where its records are gone
    std::uint64_t records = 0;    // that still stand
};

// Looks behind the pieces of today's table, where a new table takes the place of the first records of an older one. Of
// several earlier lives the one that more is left of comes first.
std::vector<FormerTable> find_former_tables(const Medium& volume, const Geometry& geometry, const Mft& present);

}  // namespace dredger::ntfs

// An earlier FAT file system on a volume that was formatted again with other clusters: its folders still stand, but
// what they point to has to be counted from another place and in other steps.
#pragma once

#include "filesystems/fat/table.h"
#include "media/medium.h"

namespace dredger::fat {

// The geometry of the FAT that the volume held before, where at least two folders that lie in what `today` leaves free
// agree on it and don't fit `present`, today's own one if it is a FAT too.
std::optional<Geometry> find_former_geometry(const Medium& volume, const Geometry* present, const SpaceMap& today);

}  // namespace dredger::fat

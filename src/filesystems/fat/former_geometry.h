// An earlier FAT file system on a volume that was formatted again with other clusters: its folders still stand, but
// what they point to has to be counted from another place and in other steps.
#pragma once

#include "filesystems/fat/table.h"
#include "media/medium.h"

namespace dredger::fat {

// Where folders lie that point to themselves tells the size of clusters and where they begin. None where fewer than two
// folders agree, or where these fit the present geometry. What lies in clusters that are taken `now` is no trace of it:
// it may be the image of another card.
std::optional<Geometry> find_former_geometry(const Medium& volume, const Geometry& present, const Table& now);

}  // namespace dredger::fat

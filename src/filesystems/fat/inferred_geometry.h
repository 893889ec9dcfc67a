// The geometry of a volume that has lost its boot sector, and on FAT32 the copy of it too.
#pragma once

#include "filesystems/fat/geometry.h"
#include "media/medium.h"

namespace dredger::fat {

// From its two tables, which begin alike, and from a folder that says where it lies. None where these are not there.
std::optional<Geometry> infer_geometry(const Medium& volume);

}  // namespace dredger::fat

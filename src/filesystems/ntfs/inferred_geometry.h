// The geometry of a volume that has lost its boot sector and the copy of it.
#pragma once

#include "filesystems/ntfs/geometry.h"
#include "media/medium.h"

namespace dredger::ntfs {

// From the first record of the file table, $MFT's own, or the copy of it in $MFTMirr: what it allocates tells how large
// clusters are, and its runs where the table lies. None where neither is found.
std::optional<Geometry> infer_geometry(const Medium& volume);

}  // namespace dredger::ntfs

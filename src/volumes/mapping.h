// From places on a volume to places on the medium, and back, through the pieces that the volume lies in.
#pragma once

#include "media/layout.h"
#include "volumes/volume.h"

namespace dredger {

// Notes where each piece of the volume begins, so that it is found without a look at all of them.
void index_pieces(Volume& volume);

// Where runs of the volume lie on the medium, in order; what lies behind the volume's end is not known.
std::vector<Extent> on_medium(const Volume& volume, const std::vector<Extent>& on_volume);

// The same of a file's layout. What is packed together and lies in two places is not known: nothing packs across them.
MediumLayout on_medium(const Volume& volume, VolumeLayout&& layout);

// The parts of the volume that lie within a run of the medium, in the volume's order; none where it lies outside.
std::vector<Extent> on_volume(const Volume& volume, const Extent& on_medium);

// The volume as a medium of its own.
MediumPtr open_volume(const MediumPtr& medium, const Volume& volume);

}  // namespace dredger

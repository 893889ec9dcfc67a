// The trash of the Mac.
#pragma once

#include "bins/bins.h"

namespace dredger {

// HOME/.Trash, or .Trashes/UID at the top of a volume, hold each thing under its own name or a numbered one. The
// .DS_Store beside them, in which the Finder keeps what it knows of a folder's things, tells where each was put back
// to.
extern const BinKind kMacTrash;

}  // namespace dredger

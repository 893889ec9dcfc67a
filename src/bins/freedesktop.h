// The trash of Linux desktops (freedesktop.org, "The FreeDesktop.org Trash specification", 1.0).
#pragma once

#include "bins/bins.h"

namespace dredger {

// TRASH/files/ holds each thing under a name of its own, TRASH/info/NAME.trashinfo tells its path and when it was
// thrown away. TRASH is HOME/.local/share/Trash, or .Trash-UID or .Trash/UID at the top of a volume.
extern const BinKind kDesktopTrash;

}  // namespace dredger

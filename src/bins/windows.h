// The bins of Windows.
#pragma once

#include "bins/bins.h"

namespace dredger {

// Since Windows Vista: $RECYCLE.BIN/SID/ holds each thing as $Rxxxxxx.EXT beside $Ixxxxxx.EXT, which tells its path,
// size and time of deletion.
extern const BinKind kRecycleBin;

// Windows 95 to XP: RECYCLED/ on FAT and RECYCLER/SID/ on NTFS hold each thing as DcN.EXT (c: the drive letter), and
// INFO2 tells of all of them.
extern const BinKind kRecycler;

}  // namespace dredger

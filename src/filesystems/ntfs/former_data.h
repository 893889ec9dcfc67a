// Where the content of a file lay whose record was given to another one. Two places may still tell: the end of that
// record, which the new file did not need and not every driver clears, and $LogFile, which keeps whole copies of
// records that were freed (Linux-NTFS documentation, "$LogFile"; redo and undo data of InitializeFileRecordSegment).
#pragma once

#include <map>

#include "filesystems/ntfs/file.h"
#include "filesystems/ntfs/folders.h"

namespace dredger::ntfs {

// The main $DATA attributes that stand in the part of a record that is not in use, and tell all clusters of a file.
std::vector<Stream> find_data_in_slack(const RawRecord& record, const Geometry& geometry);

class LogCopies {
  public:
    // Looks through `content`, the content of $LogFile. What can't be read is left out.
    void read(const Medium& content, const Geometry& geometry);

    // The main content of a file as the log's last copy of its record tells it; null where there is none.
    const Stream* find(Reference file) const;

  private:
    struct Copy {
        std::uint64_t sequence_number = 0;  // of the log: higher is later
        Stream stream;
    };
    void take(ByteView copy, const Geometry& geometry);

    std::map<Reference, Copy> copies_;
};

}  // namespace dredger::ntfs

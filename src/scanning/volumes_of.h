// All volumes of a medium: those that its partition table tells of, and lost ones. Each file system is opened once, as
// a drive that is dying pays for every read.
#pragma once

#include <map>

#include "base/observer.h"
#include "filesystems/filesystem.h"
#include "volumes/lost.h"

namespace dredger {

class VolumesOfMedium {
  public:
    // A medium whose file systems can all be opened is looked through at likely places only in its gaps. None where the
    // observer stopped it.
    static Result<std::optional<VolumesOfMedium>> find(const MediumPtr& medium, Observer& observer);

    const PartitionMap& map() const { return map_; }
    PartitionMap& map() { return map_; }

    // The file system on one of them; null where none is recognised, nor inferred where nothing is known of what the
    // volume holds. The volumes must not have been changed since.
    const Result<std::shared_ptr<const FileSystem>>& filesystem(const Volume& place);

  private:
    using Opened = Result<std::shared_ptr<const FileSystem>>;
    explicit VolumesOfMedium(MediumPtr medium) : medium_(std::move(medium)) {}

    MediumPtr medium_;
    PartitionMap map_;
    std::map<unsigned, Opened> recognised_;  // by number of the volume
    std::map<unsigned, Opened> opened_;      // the same, or inferred
};

}  // namespace dredger

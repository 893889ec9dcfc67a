// XFS as a FileSystem.
#pragma once

#include "filesystems/filesystem.h"
#include "filesystems/xfs/groups.h"

namespace dredger::xfs {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Xfs final : public FileSystem {
  public:
    Xfs(MediumPtr volume, const Geometry& geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return groups_.space(); }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    MediumPtr volume_;
    Geometry geometry_;
    VolumeFacts facts_;
    Groups groups_;
};

}  // namespace dredger::xfs

// F2FS as a FileSystem.
#pragma once

#include "filesystems/f2fs/tables.h"
#include "filesystems/filesystem.h"

namespace dredger::f2fs {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class F2fs final : public FileSystem {
  public:
    F2fs(MediumPtr volume, const Geometry& geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return tables_.space(); }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    MediumPtr volume_;
    Geometry geometry_;
    VolumeFacts facts_;
    Tables tables_;
};

}  // namespace dredger::f2fs

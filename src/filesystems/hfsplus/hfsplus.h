// HFS Plus and HFSX as a FileSystem.
#pragma once

#include "filesystems/filesystem.h"
#include "filesystems/hfsplus/volume.h"

namespace dredger::hfsplus {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class HfsPlus final : public FileSystem {
  public:
    HfsPlus(MediumPtr volume, const Geometry& geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    void read_space();
    void read_label();

    MediumPtr volume_;
    Geometry geometry_;
    VolumeFacts facts_;
    SpaceMap space_;
};

}  // namespace dredger::hfsplus

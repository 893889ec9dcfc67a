// Btrfs as a FileSystem, as far as it lies on one device.
#pragma once

#include "filesystems/btrfs/volume.h"
#include "filesystems/filesystem.h"

namespace dredger::btrfs {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Btrfs final : public FileSystem {
  public:
    Btrfs(MediumPtr volume, Geometry geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    std::vector<FileRoot> roots() const override;
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    void read_space();

    Geometry geometry_;
    Nodes nodes_;
    VolumeFacts facts_;
    SpaceMap space_;
};

}  // namespace dredger::btrfs

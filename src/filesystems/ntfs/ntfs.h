// NTFS as a FileSystem.
#pragma once

#include "filesystems/filesystem.h"
#include "filesystems/ntfs/mft.h"

namespace dredger::ntfs {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As FileSystemKind::infer wants it.
Result<std::unique_ptr<FileSystem>> infer(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Ntfs final : public FileSystem {
  public:
    static Result<std::unique_ptr<Ntfs>> open(MediumPtr volume, const Geometry& geometry, VolumeFacts opening);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    Ntfs(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(geometry) {}
    void read_volume_record(const Mft& mft);
    void read_space(const Mft& mft);

    MediumPtr volume_;
    Geometry geometry_;
    std::optional<Mft> mft_;  // refers to geometry_
    VolumeFacts facts_;
    SpaceMap space_;
};

}  // namespace dredger::ntfs

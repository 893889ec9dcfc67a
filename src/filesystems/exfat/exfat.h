// exFAT as a FileSystem.
#pragma once

#include "filesystems/exfat/chains.h"
#include "filesystems/exfat/upcase.h"
#include "filesystems/filesystem.h"

namespace dredger::exfat {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As FileSystemKind::former wants it: where its clusters lay follows from its folders.
Result<std::unique_ptr<FileSystem>> former(MediumPtr left, const SpaceMap& today);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class ExFat final : public FileSystem {
  public:
    ExFat(MediumPtr volume, const Geometry& geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    void read_root();
    bool read_bitmap(std::uint32_t first_cluster, std::uint64_t length);
    std::vector<std::byte> content_of(std::uint32_t first_cluster, std::uint64_t length, bool& whole) const;

    MediumPtr volume_;
    Geometry geometry_;
    Chains chains_;  // refers to geometry_
    Upcase upcase_;
    SpaceMap space_;
    VolumeFacts facts_;
};

}  // namespace dredger::exfat

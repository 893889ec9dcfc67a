// ext2, ext3 and ext4 as a FileSystem.
#pragma once

#include "filesystems/ext/groups.h"
#include "filesystems/ext/journal.h"
#include "filesystems/filesystem.h"

namespace dredger::ext {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Ext final : public FileSystem {
  public:
    Ext(MediumPtr volume, const Geometry& geometry, VolumeFacts facts);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;
    std::unique_ptr<LeftLayouts> left_layouts(
        const std::function<bool(std::uint64_t, std::uint64_t)>& go_on) const override;

  private:
    Journal read_journal() const;

    MediumPtr volume_;
    Geometry geometry_;
    VolumeFacts facts_;
    Groups groups_;
    Journal journal_;
    MediumPtr current_;  // as played_back() gives it
    SpaceMap space_;
};

}  // namespace dredger::ext

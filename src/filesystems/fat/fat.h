// FAT12, FAT16 and FAT32 as a file system.
#pragma once

#include "filesystems/fat/table.h"
#include "filesystems/filesystem.h"

namespace dredger::fat {

// See FileSystemKind::open. A damaged boot sector is replaced by its backup where there is one.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As FileSystemKind::infer wants it.
Result<std::unique_ptr<FileSystem>> infer(MediumPtr volume);
// As FileSystemKind::former wants it: what folders that point to themselves tell of where clusters lay.
Result<std::unique_ptr<FileSystem>> former(MediumPtr left, const SpaceMap& today);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Fat final : public FileSystem {
  public:
    Fat(MediumPtr volume, Geometry geometry, Table table);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return table_.space(); }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    std::string root_label() const;

    MediumPtr volume_;
    Geometry geometry_;
    Table table_;
    VolumeFacts facts_;
};

}  // namespace dredger::fat

// APFS as a FileSystem: a container with all its volumes, as far as they are not encrypted.
#pragma once

#include "filesystems/apfs/container.h"
#include "filesystems/filesystem.h"

namespace dredger::apfs {

// As FileSystemKind::open wants it.
Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);
// As Tracer wants it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

class Apfs final : public FileSystem {
  public:
    Apfs(Container container, std::vector<std::string> warnings);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    std::vector<FileRoot> roots() const override;
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    Container container_;
    VolumeFacts facts_;
    SpaceMap space_;
};

}  // namespace dredger::apfs

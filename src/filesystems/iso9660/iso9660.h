// ISO 9660 discs and images, with Joliet or Rock Ridge: the files of the last session, and those of earlier ones that
// it does not have any more. docs/filesystems/optical.md says what is left on a disc.
#pragma once

#include "filesystems/filesystem.h"
#include "filesystems/iso9660/directory.h"

namespace dredger::iso9660 {

// One session's tree, by its descriptors.
struct Session {
    std::uint64_t start = 0;  // sector; its descriptors stand 16 sectors further
    std::uint64_t block = kSector;
    std::uint64_t blocks = 0;  // of the volume, as it says
    std::string label;
    std::string created;
    Extent root;  // bytes on the volume
    Naming naming = Naming::plain;
    std::size_t susp_skip = 0;
};

class Iso9660 final : public FileSystem {
  public:
    // `sessions`: the last one first.
    Iso9660(MediumPtr volume, std::vector<Session> sessions);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    using Visit = std::function<bool(const std::string& folder, const Entry& entry)>;
    bool walk_tree(const Session& session, const Visit& visit, std::vector<std::string>& warnings,
                   std::vector<Extent>* folders) const;

    MediumPtr volume_;
    std::vector<Session> sessions_;
    VolumeFacts facts_;
    SpaceMap space_;
};

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);

// Of a descriptor: the volume that it describes begins 16 sectors in front of it.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

}  // namespace dredger::iso9660

// UDF discs and media. docs/filesystems/optical.md says what deletion leaves behind.
#pragma once

#include "filesystems/udf/disc.h"

namespace dredger::udf {

class Udf final : public FileSystem {
  public:
    Udf(Disc disc, std::vector<std::string> warnings);

    const VolumeFacts& facts() const override { return facts_; }
    const SpaceMap& space() const override { return space_; }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;

  private:
    using Visit = std::function<bool(Record&& record, const Node& node)>;
    void walk_tree(bool live_only, const Visit& visit, std::vector<std::string>& warnings) const;

    Disc disc_;
    VolumeFacts facts_;
    SpaceMap space_;
};

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume);

// Of an anchor at sector 256 of 2,048 bytes.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there);

}  // namespace dredger::udf

#include "filesystems/f2fs/f2fs.h"

#include <fmt/format.h>

#include "base/text.h"
#include "filesystems/f2fs/walk.h"

namespace dredger::f2fs {
namespace {

std::optional<Geometry> superblock_at(const Medium& medium, std::uint64_t at) {
    const auto bytes = bytes_at(medium, at, sizeof(SuperBlock));
    return bytes ? parse_superblock(ByteView(*bytes, at)) : std::nullopt;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    auto geometry = superblock_at(*volume, kSuperBlockAt);
    if (!geometry) {
        geometry = superblock_at(*volume, kBlock + kSuperBlockAt);
        if (!geometry) return nullptr;
        // A system mends it by itself from this copy: it still mounts.
        facts.warnings.emplace_back("the superblock is damaged; its copy in the second block is used");
    }
    return std::make_unique<F2fs>(std::move(volume), *geometry, std::move(facts));
}

F2fs::F2fs(MediumPtr volume, const Geometry& geometry, VolumeFacts facts)
    : volume_(std::move(volume)),
      geometry_(geometry),
      facts_(std::move(facts)),
      tables_(Tables::read(volume_, geometry_, facts_.warnings)) {
    facts_.filesystem = "F2FS";
    facts_.label = geometry_.label;
    facts_.serial = uuid_text(geometry_.uuid);
    facts_.cluster_size = kBlock;
    facts_.size = geometry_.size();
    facts_.used = tables_.space().taken_bytes();
    facts_.is_mountable = tables_.has_checkpoint();
    if (geometry_.size() > volume_->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              geometry_.size(), volume_->size()));
}

Result<void> F2fs::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    F2fsWalk(volume_, geometry_, tables_, options, sink, warnings).run();
    return {};
}

// One superblock stands in each of the first two blocks; the checkpoint tells which one it is.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    const auto geometry = parse_superblock(there);
    if (!geometry) return std::nullopt;
    for (const std::uint64_t before : {kSuperBlockAt, kSuperBlockAt + kBlock}) {
        if (at < before) continue;
        const std::uint64_t start = at - before;
        for (const std::uint64_t pack : {0U, geometry->segment_blocks}) {
            const std::uint64_t place = start + (geometry->checkpoint_at + pack) * kBlock;
            const auto bytes = bytes_at(medium, place, sizeof(CheckpointHead));
            if (!bytes) continue;
            const auto checkpoint = ByteView(*bytes).as<CheckpointHead>(0);
            if (!checkpoint || checkpoint->checkpoint_ver == 0 || checkpoint->user_block_count == 0 ||
                checkpoint->user_block_count > geometry->blocks || checkpoint->checksum_offset != kBlock - 4)
                continue;
            return VolumeTrace{"F2FS",
                               geometry->label,
                               start,
                               geometry->size(),
                               before == kSuperBlockAt ? 2U : 1U,
                               "the superblock and a checkpoint agree",
                               at};
        }
    }
    return std::nullopt;
}

}  // namespace dredger::f2fs

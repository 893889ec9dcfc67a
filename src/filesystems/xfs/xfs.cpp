#include "filesystems/xfs/xfs.h"

#include <fmt/format.h>

#include "base/text.h"
#include "filesystems/xfs/walk.h"

namespace dredger::xfs {
namespace {

// The first superblock, or the copy with which each allocation group begins. Where the first is gone the others' place
// follows from the size that the usual numbers of groups give.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    const auto read = [&](std::uint64_t at) -> std::optional<Geometry> {
        const auto bytes = bytes_at(volume, at, sizeof(SuperBlock));
        return bytes ? parse_superblock(ByteView(*bytes, at)) : std::nullopt;
    };
    if (auto first = read(0)) return first;
    constexpr std::uint64_t kBlock = 4096, kLargestGroup = std::uint64_t{1} << 40;  // bytes
    for (const std::uint64_t groups : {4U, 8U, 16U, 32U, 64U, 2U, 1U}) {
        // Groups hold whole blocks, the last one what is left.
        const std::uint64_t size = divide_up(volume.size() / kBlock, groups) * kBlock;
        for (const std::uint64_t at : {size, size - std::min(size, kBlock), kLargestGroup}) {
            auto copy = at < volume.size() ? read(at) : std::nullopt;
            if (!copy || copy->offset_in(1, 0) != at) continue;
            facts.is_mountable = false;
            facts.warnings.emplace_back("the superblock is damaged; its copy in allocation group 1 is used");
            return copy;
        }
    }
    return std::nullopt;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    const auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    return std::make_unique<Xfs>(std::move(volume), *geometry, std::move(facts));
}

Xfs::Xfs(MediumPtr volume, const Geometry& geometry, VolumeFacts facts)
    : volume_(std::move(volume)), geometry_(geometry), groups_(Groups::read(*volume_, geometry_, facts.warnings)) {
    facts_ = std::move(facts);
    facts_.filesystem = "XFS";
    facts_.label = geometry_.label;
    facts_.serial = uuid_text(geometry_.uuid);
    facts_.cluster_size = geometry_.block_size;
    facts_.size = geometry_.size();
    facts_.used = groups_.space().taken_bytes();
    if (geometry_.size() > volume_->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              geometry_.size(), volume_->size()));
}

Result<void> Xfs::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    XfsWalk(volume_, geometry_, groups_, options, sink, warnings).run();
    return {};
}

}  // namespace dredger::xfs

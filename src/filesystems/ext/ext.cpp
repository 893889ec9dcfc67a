#include "filesystems/ext/ext.h"

#include <fmt/format.h>

#include "filesystems/ext/inode_table.h"
#include "filesystems/ext/pointer_lists.h"
#include "filesystems/ext/walk.h"

namespace dredger::ext {
namespace {

std::optional<Geometry> superblock_at(const Medium& volume, std::uint64_t offset, std::uint64_t group) {
    const auto sector = volume.bytes(offset, sizeof(SuperBlock));
    return sector ? parse_superblock(ByteView(*sector, offset), group) : std::nullopt;
}

// The first superblock, or one of its copies: where they stand depends on the block size, and by it mostly on
// nothing else.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    if (auto first = superblock_at(volume, kSuperBlockOffset, 0)) return first;
    for (const std::uint64_t group : {1U, 3U, 5U, 7U, 9U, 25U, 27U, 49U})
        for (const std::uint64_t block_size : {4096U, 1024U, 2048U, 8192U, 16384U, 32768U, 65536U}) {
            const std::uint64_t first_data_block = block_size == 1024 ? 1 : 0;
            const std::uint64_t at = (first_data_block + group * 8 * block_size) * block_size;
            if (!lies_within(at, sizeof(SuperBlock), volume.size())) continue;
            auto copy = superblock_at(volume, at, group);
            if (!copy || copy->block_size != block_size || copy->first_block_of(group) * block_size != at) continue;
            facts.is_mountable = false;
            facts.warnings.push_back(
                fmt::format("the superblock is damaged; its copy in block group {} is used", group));
            return copy;
        }
    return std::nullopt;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    const auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    return std::make_unique<Ext>(std::move(volume), *geometry, std::move(facts));
}

Ext::Ext(MediumPtr volume, const Geometry& geometry, VolumeFacts facts)
    : volume_(std::move(volume)),
      geometry_(geometry),
      groups_(Groups::read(*volume_, geometry_, facts.warnings)),
      journal_(read_journal()),
      current_(played_back(volume_, geometry_, journal_)) {
    // The descriptors may be among what was only written to the journal.
    if (current_ != volume_) {
        std::vector<std::string> ignored;
        groups_ = Groups::read(*current_, geometry_, ignored);
    }
    bool whole = true;
    space_ = groups_.space(*current_, whole);
    facts_ = std::move(facts);
    facts_.filesystem = geometry_.filesystem;
    facts_.label = geometry_.label;
    facts_.serial = geometry_.uuid;
    facts_.cluster_size = geometry_.cluster_size;
    facts_.size = geometry_.size();
    facts_.used = space_.taken_bytes();
    if (geometry_.size() > volume_->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              geometry_.size(), volume_->size()));
    if (!journal_.unsettled().empty())
        facts_.warnings.push_back(fmt::format("it was not unmounted cleanly: {} blocks are read from its journal",
                                              journal_.unsettled().size()));
    if (!whole)
        facts_.warnings.emplace_back(
            "the map of used blocks is damaged: what is overwritten is told by the files' records alone");
}

Journal Ext::read_journal() const {
    Journal none;
    if (geometry_.journal_inode == 0) return none;
    const InodeTable table(volume_, geometry_, groups_, none);
    const auto inode = table.read(geometry_.journal_inode);
    return inode && inode->is_file() ? Journal::read(volume_, geometry_, table.map(*inode).extents) : none;
}

Result<void> Ext::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    ExtWalk(current_, geometry_, groups_, journal_, space_, options, sink, warnings).run();
    return {};
}

std::unique_ptr<LeftLayouts> Ext::left_layouts(const std::function<bool(std::uint64_t, std::uint64_t)>& go_on) const {
    if (geometry_.has_extents()) return nullptr;
    return std::make_unique<PointerLists>(*current_, geometry_, space_, go_on);
}

}  // namespace dredger::ext

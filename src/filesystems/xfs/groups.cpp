#include "filesystems/xfs/groups.h"

#include <fmt/format.h>
#include <functional>
#include <unordered_set>

#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr unsigned kMaxLevels = 16;

// Walks a B+tree of one allocation group, whose pointers have 32 bits: every record of every leaf. False: not all of it
// could be read.
class GroupTree {
  public:
    GroupTree(const Medium& volume, const Geometry& geometry, std::uint32_t group, const char* magic,
              std::size_t key_size, std::size_t record_size)
        : volume_(volume),
          geometry_(geometry),
          group_(group),
          magic_(magic),
          key_size_(key_size),
          record_size_(record_size) {}

    bool walk(std::uint32_t block, std::uint32_t levels, const std::function<void(ByteView record)>& visit) {
        if (levels == 0 || levels > kMaxLevels || block >= geometry_.blocks_of(group_) || !seen_.insert(block).second)
            return false;
        const auto bytes = bytes_at(volume_, geometry_.offset_in(group_, block), geometry_.block_size);
        if (!bytes) return false;
        const ByteView view(*bytes);
        const auto head = view.as<BtreeBlock>(0);
        // The last letter is another one in version 5: "ABTB", "AB3B".
        if (!view.has(0, magic_) || head->bb_level != levels - 1) return false;
        const std::size_t header = geometry_.has_checksums ? 56 : 16;
        const std::size_t most =
            (geometry_.block_size - header) / (levels == 1 ? record_size_ : key_size_ + sizeof(big_uint32_t));
        const std::size_t count = head->bb_numrecs;
        if (count > most) return false;
        bool whole = true;
        for (std::size_t i = 0; i < count; ++i) {
            if (levels == 1)
                visit(*view.slice(header + i * record_size_, record_size_));
            else
                whole &= walk(*view.as<big_uint32_t>(header + most * key_size_ + i * sizeof(big_uint32_t)), levels - 1,
                              visit);
        }
        return whole;
    }

  private:
    const Medium& volume_;
    const Geometry& geometry_;
    std::uint32_t group_;
    std::string_view magic_;
    std::size_t key_size_, record_size_;
    std::unordered_set<std::uint32_t> seen_;
};

bool read_chunks(const Medium& volume, const Geometry& g, std::uint32_t group, std::vector<InodeChunk>& chunks) {
    const auto sector = bytes_at(volume, g.offset_in(group, 0) + 2 * std::uint64_t{g.sector_size}, sizeof(InodeHeader));
    if (!sector || !ByteView(*sector).has(0, "XAGI")) return false;
    const auto head = *ByteView(*sector).as<InodeHeader>(0);
    GroupTree tree(volume, g, group, g.has_checksums ? "IAB3" : "IABT", sizeof(big_uint32_t), sizeof(InodeChunkRecord));
    return tree.walk(head.agi_root, head.agi_level, [&](ByteView bytes) {
        const auto record = *bytes.as<InodeChunkRecord>(0);
        InodeChunk chunk{g.inode_number(group, record.ir_startino), record.ir_free, 0};
        // A bit of the mask stands for four inodes.
        for (unsigned i = 0; g.has_sparse_inodes && i < 16; ++i)
            if ((record.ir_holemask >> i & 1U) != 0) chunk.missing |= std::uint64_t{0xF} << (i * 4);
        if (g.offset_of_inode(chunk.first)) chunks.push_back(chunk);
    });
}

bool read_free(const Medium& volume, const Geometry& g, std::uint32_t group, std::vector<FreeExtent>& free) {
    const auto sector = bytes_at(volume, g.offset_in(group, 0) + g.sector_size, sizeof(FreeSpaceHeader));
    if (!sector || !ByteView(*sector).has(0, "XAGF")) return false;
    const auto head = *ByteView(*sector).as<FreeSpaceHeader>(0);
    GroupTree tree(volume, g, group, g.has_checksums ? "AB3B" : "ABTB", sizeof(FreeExtent), sizeof(FreeExtent));
    return tree.walk(head.agf_bno_root, head.agf_bno_level,
                     [&](ByteView bytes) { free.push_back(*bytes.as<FreeExtent>(0)); });
}

}  // namespace

Groups Groups::read(const Medium& volume, const Geometry& geometry, std::vector<std::string>& warnings) {
    Groups groups;
    groups.space_ = SpaceMap(0, geometry.block_size, geometry.blocks);
    unsigned damaged_chunks = 0, damaged_space = 0;
    for (std::uint32_t group = 0; group < geometry.groups; ++group) {
        if (geometry.offset_in(group, 0) >= volume.size()) break;
        damaged_chunks += read_chunks(volume, geometry, group, groups.chunks_) ? 0 : 1;
        std::vector<FreeExtent> free;
        damaged_space += read_free(volume, geometry, group, free) ? 0 : 1;
        // In order of places: all that lies between is taken.
        const std::uint64_t base = std::uint64_t{group} * geometry.group_blocks;
        std::uint64_t reached = 0;
        for (const FreeExtent& run : free) {
            if (run.ar_startblock > reached) groups.space_.take_run(base + reached, run.ar_startblock - reached);
            reached = std::max<std::uint64_t>(reached, std::uint64_t{run.ar_startblock} + run.ar_blockcount);
        }
        const std::uint64_t end = geometry.blocks_of(group);
        if (reached < end) groups.space_.take_run(base + reached, end - reached);
    }
    std::sort(groups.chunks_.begin(), groups.chunks_.end(),
              [](const InodeChunk& a, const InodeChunk& b) { return a.first < b.first; });
    if (damaged_chunks > 0)
        warnings.push_back(
            fmt::format("{} allocation groups do not tell of all their inodes: they are damaged", damaged_chunks));
    if (damaged_space > 0)
        warnings.push_back(
            fmt::format("{} allocation groups do not tell of all their free blocks: they are damaged", damaged_space));
    return groups;
}

const InodeChunk* Groups::chunk_of(std::uint64_t inode) const {
    auto chunk = std::upper_bound(chunks_.begin(), chunks_.end(), inode,
                                  [](std::uint64_t n, const InodeChunk& c) { return n < c.first; });
    if (chunk == chunks_.begin()) return nullptr;
    --chunk;
    return inode - chunk->first < kInodesPerChunk ? &*chunk : nullptr;
}

}  // namespace dredger::xfs

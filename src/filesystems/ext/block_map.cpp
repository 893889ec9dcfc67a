#include "filesystems/ext/block_map.h"

#include <algorithm>
#include <unordered_set>

namespace dredger::ext {
namespace {

struct ExtentHeader {
    little_uint16_t eh_magic;
    little_uint16_t eh_entries;
    little_uint16_t eh_max;
    little_uint16_t eh_depth;
    little_uint32_t eh_generation;
};
struct ExtentIndex {
    little_uint32_t ei_block;
    little_uint32_t ei_leaf_lo;
    little_uint16_t ei_leaf_hi;
    little_uint16_t ei_unused;
};
struct ExtentLeaf {
    little_uint32_t ee_block;
    little_uint16_t ee_len;
    little_uint16_t ee_start_hi;
    little_uint32_t ee_start_lo;
};
static_assert(sizeof(ExtentHeader) == 12 && sizeof(ExtentIndex) == 12 && sizeof(ExtentLeaf) == 12);

constexpr std::uint16_t kExtentMagic = 0xF30A;
constexpr std::uint16_t kDeepest = 5;
constexpr std::uint32_t kLongestExtent = 32768;  // blocks; one that says more is so much longer than it, and unwritten
constexpr std::size_t kDirectBlocks = 12;
constexpr std::size_t kMaxMappers = 1 << 20;  // blocks that map one file

// Collects the pieces of a content in their order.
class Mapper {
  public:
    Mapper(const Inode& inode, const Geometry& geometry, const BlockVersions& versions)
        : inode_(inode), geometry_(geometry), versions_(versions) {}

    Mapping run() {
        if (inode_.has_inline_data() || inode_.is_fast_symlink()) {
            map_inline();
            return std::move(mapping_);
        }
        if ((inode_.flags & EXTENTS_FL) != 0)
            map_extents(ByteView(inode_.block), -1);
        else
            map_lists();
        finish();
        return std::move(mapping_);
    }

  private:
    void map_inline() {
        mapping_.within_inode = true;
        const std::uint64_t here = std::min<std::uint64_t>(inode_.size, inode_.block.size());
        if (here > 0) mapping_.extents.push_back({inode_.block_at, here});
        const std::uint64_t rest = inode_.size - here;
        if (rest > 0 && inode_.inline_rest.length >= rest) {
            mapping_.extents.push_back({inode_.inline_rest.offset, rest});
        } else if (rest > 0) {
            mapping_.whole = false;
            mapping_.extents.push_back(Extent::unknown(rest));
        }
    }

    // `depth` -1: whatever the header says.
    bool is_node(ByteView node, int depth) const {
        const auto header = node.as<ExtentHeader>(0);
        if (!header || header->eh_magic != kExtentMagic || header->eh_depth > kDeepest ||
            header->eh_entries > header->eh_max || (depth >= 0 && header->eh_depth != depth) ||
            sizeof(ExtentHeader) * (std::size_t{1} + header->eh_max) > node.size())
            return false;
        // Those beside an inode have none of their own.
        if (depth < 0 || !geometry_.has_checksums()) return true;
        const std::size_t tail = sizeof(ExtentHeader) * (std::size_t{1} + header->eh_max);
        const auto checksum = node.u32le(tail);
        return checksum &&
               inode_seed(geometry_, inode_.number, inode_.generation).add(node.bytes().first(tail)).value() ==
                   *checksum;
    }

    void map_extents(ByteView node, int depth) {
        if (!is_node(node, depth)) {
            mapping_.whole = false;
            return;
        }
        const auto header = *node.as<ExtentHeader>(0);
        for (std::size_t i = 0; i < header.eh_entries; ++i) {
            const std::size_t at = sizeof(ExtentHeader) * (i + 1);
            if (header.eh_depth > 0) {
                const auto index = *node.as<ExtentIndex>(at);
                descend(index.ei_leaf_lo | std::uint64_t{index.ei_leaf_hi} << 32U, header.eh_depth - 1);
                continue;
            }
            const auto leaf = *node.as<ExtentLeaf>(at);
            const bool is_unwritten = leaf.ee_len > kLongestExtent;
            const std::uint64_t count = is_unwritten ? leaf.ee_len - kLongestExtent : leaf.ee_len.value();
            const std::uint64_t start = leaf.ee_start_lo | std::uint64_t{leaf.ee_start_hi} << 32U;
            place(leaf.ee_block, count, start, is_unwritten);
        }
    }

    void descend(std::uint64_t block, int depth) {
        if (!may_visit(block)) return;
        std::vector<std::byte> node;
        const bool found = versions_(block, [&](ByteView bytes) {
            if (!is_node(bytes, depth)) return false;
            node.assign(bytes.bytes().begin(), bytes.bytes().end());
            return true;
        });
        mapping_.mappers.push_back({block * geometry_.block_size, geometry_.block_size});
        if (found)
            map_extents(ByteView(node), depth);
        else
            mapping_.whole = false;
    }

    // Every mapping block has its place once in the map.
    bool may_visit(std::uint64_t block) {
        const bool may = geometry_.holds(block) && visited_.size() < kMaxMappers && visited_.insert(block).second;
        mapping_.whole = mapping_.whole && may;
        return may;
    }

    void map_lists() {
        const ByteView pointers(inode_.block);
        const std::uint64_t per_block = geometry_.block_size / 4;
        std::uint64_t at = 0;
        for (std::size_t i = 0; i < kDirectBlocks; ++i) place_pointer(*pointers.u32le(i * 4), at++);
        std::uint64_t reach = 1;
        for (std::size_t level = 1; level <= 3; ++level) {
            reach *= per_block;
            map_list(*pointers.u32le((kDirectBlocks + level - 1) * 4), level, at, reach);
            at += reach;
        }
    }

    void place_pointer(std::uint32_t block, std::uint64_t at) {
        if (block != 0) place(at, 1, block, false);
    }

    bool is_list(ByteView list) const {
        for (std::size_t i = 0; i + 4 <= list.size(); i += 4)
            if (const std::uint32_t block = *list.u32le(i); block != 0 && !geometry_.holds(block)) return false;
        return !list.is_uniform() || list.bytes().front() == std::byte{0};
    }

    // `block` lists `reach` blocks of content from `at` on, by way of `level` steps.
    void map_list(std::uint32_t block, std::size_t level, std::uint64_t at, std::uint64_t reach) {
        if (block == 0 || at * geometry_.block_size >= inode_.size || !may_visit(block)) return;
        std::vector<std::byte> list;
        const bool found = versions_(block, [&](ByteView bytes) {
            if (!is_list(bytes)) return false;
            list.assign(bytes.bytes().begin(), bytes.bytes().end());
            return true;
        });
        mapping_.mappers.push_back({block * geometry_.block_size, geometry_.block_size});
        if (!found) {
            mapping_.whole = false;
            lose(at, reach);
            return;
        }
        const ByteView pointers(list);
        const std::uint64_t per_block = geometry_.block_size / 4;
        for (std::uint64_t i = 0; i < per_block; ++i) {
            const std::uint32_t next = *pointers.u32le(static_cast<std::size_t>(i * 4));
            if (level == 1)
                place_pointer(next, at + i);
            else
                map_list(next, level - 1, at + i * (reach / per_block), reach / per_block);
        }
    }

    // `count` blocks of content from block `at` of it on lie at block `start` of the volume.
    void place(std::uint64_t at, std::uint64_t count, std::uint64_t start, bool is_unwritten) {
        const std::uint64_t begin = at * geometry_.block_size;
        if (count == 0 || begin < reached_ || !geometry_.holds(start) || count > geometry_.blocks - start) {
            mapping_.whole = mapping_.whole && count == 0;
            return;
        }
        fill_to(begin);
        add(is_unwritten ? Extent::zeros(0) : Extent{start * geometry_.block_size, 0}, count * geometry_.block_size);
    }

    // It is not known where these blocks of the content lie.
    void lose(std::uint64_t at, std::uint64_t count) {
        const std::uint64_t begin = at * geometry_.block_size;
        if (begin < reached_) return;
        fill_to(begin);
        add(Extent::unknown(0), count * geometry_.block_size);
    }

    // What no piece tells of is sparse, unless a part of the map is lost.
    void fill_to(std::uint64_t begin) {
        if (begin > reached_) add(mapping_.whole ? Extent::zeros(0) : Extent::unknown(0), begin - reached_);
    }

    void add(Extent piece, std::uint64_t length) {
        const std::uint64_t from = reached_;
        reached_ += length;
        if (piece.is_stored()) mapping_.told_bytes = reached_;
        if (from >= inode_.size) return;
        piece.length = std::min(length, inode_.size - from);
        append(mapping_.extents, piece);
    }

    void finish() {
        if (reached_ < inode_.size) fill_to(inode_.size);
    }

    const Inode& inode_;
    const Geometry& geometry_;
    const BlockVersions& versions_;
    Mapping mapping_;
    std::uint64_t reached_ = 0;                  // bytes of content
    std::unordered_set<std::uint64_t> visited_;  // blocks that hold the map
};

}  // namespace

Mapping map_blocks(const Inode& inode, const Geometry& geometry, const BlockVersions& versions) {
    return Mapper(inode, geometry, versions).run();
}

}  // namespace dredger::ext

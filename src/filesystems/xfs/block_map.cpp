#include "filesystems/xfs/block_map.h"

#include <unordered_set>

#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr std::size_t kRecord = 16;  // bytes
constexpr unsigned kMostLevels = 16;
constexpr std::uint64_t kMostExtents = 8 << 20;         // of a file
constexpr std::uint64_t kEnd = std::uint64_t{1} << 55;  // blocks; no file is longer

struct Packed {
    big_uint64_t l0, l1;
};

FileExtent unpacked(const Packed& record) {
    const std::uint64_t l0 = record.l0, l1 = record.l1;
    return {l0 >> 9 & ((std::uint64_t{1} << 54) - 1), (l0 & 0x1FF) << 43 | l1 >> 21, l1 & 0x1FFFFF, l0 >> 63 != 0};
}

class Tree {
  public:
    Tree(const Inode& inode, const Geometry& geometry, const Medium& volume)
        : inode_(inode), geometry_(geometry), volume_(volume) {}

    // xfs_bmdr_block: a short root in the inode.
    ExtentList from_root() {
        const ByteView root(inode_.fork);
        const auto level = root.as<big_uint16_t>(0), count = root.as<big_uint16_t>(2);
        const std::size_t most = inode_.fork.size() < 4 ? 0 : (inode_.fork.size() - 4) / 16;
        if (!level || !count || *level == 0 || *level > kMostLevels || *count > most) return {{}, {}, false};
        walk_children(root, 4, most, *count, *level - 1U, kEnd);
        return std::move(list_);
    }

  private:
    // Keys, the first block of the file that each child tells of, and behind room for `most` of them the children.
    void walk_children(ByteView node, std::size_t keys, std::size_t most, std::size_t count, unsigned level,
                       std::uint64_t end) {
        for (std::size_t i = 0; i < count; ++i) {
            const std::uint64_t first = *node.as<big_uint64_t>(keys + i * 8);
            const std::uint64_t after = i + 1 < count ? node.as<big_uint64_t>(keys + (i + 1) * 8)->value() : end;
            const std::uint64_t child = *node.as<big_uint64_t>(keys + (most + i) * 8);
            if (!walk(child, level, after)) lose(first, after);
        }
    }

    void lose(std::uint64_t first, std::uint64_t end) {
        list_.whole = false;
        if (first < end) list_.extents.push_back({first, 0, end - first, false, true});
    }

    // False where nothing of it can be believed. It tells of blocks of the file before `end`.
    bool walk(std::uint64_t block, unsigned level, std::uint64_t end) {
        const auto offset = geometry_.offset_of(block);
        if (!offset || !seen_.insert(block).second || list_.extents.size() > kMostExtents) return false;
        const auto bytes = bytes_at(volume_, *offset, geometry_.block_size);
        if (!bytes) return false;
        const ByteView view(*bytes);
        const auto head = view.as<BtreeBlock>(0);
        const std::size_t header = geometry_.has_checksums ? 72 : 24;
        if (!view.has(0, geometry_.has_checksums ? "BMA3" : "BMAP") || head->bb_level != level) return false;
        constexpr std::size_t kOwner = 56;
        if (geometry_.has_checksums && *view.as<big_uint64_t>(kOwner) != inode_.number) return false;
        list_.mappers.push_back({*offset, geometry_.block_size});
        const std::size_t most = (geometry_.block_size - header) / kRecord, count = head->bb_numrecs;
        if (count > most) return false;
        if (level == 0) {
            const auto leaf = read_extents(*view.slice(header, count * kRecord), count, geometry_);
            list_.extents.insert(list_.extents.end(), leaf.begin(), leaf.end());
            if (leaf.empty()) return count == 0;
            if (leaf.size() < count) lose(leaf.back().start + leaf.back().count, end);
            return true;
        }
        walk_children(view, header, most, count, level - 1, end);
        return true;
    }

    const Inode& inode_;
    const Geometry& geometry_;
    const Medium& volume_;
    ExtentList list_;
    std::unordered_set<std::uint64_t> seen_;
};

}  // namespace

std::vector<FileExtent> read_extents(ByteView records, std::uint64_t most, const Geometry& geometry) {
    std::vector<FileExtent> list;
    std::uint64_t reached = 0;
    for (std::size_t at = 0; at + kRecord <= records.size() && list.size() < most; at += kRecord) {
        const FileExtent extent = unpacked(*records.as<Packed>(at));
        const auto last = extent.count == 0 ? std::nullopt : geometry.offset_of(extent.block + extent.count - 1);
        if (!last || !geometry.offset_of(extent.block) || extent.start < reached) break;
        list.push_back(extent);
        reached = extent.start + extent.count;
    }
    return list;
}

ExtentList extents_of(const Inode& inode, const Geometry& geometry, const Medium& volume) {
    if (inode.format == ForkFormat::btree) return Tree(inode, geometry, volume).from_root();
    if (inode.format != ForkFormat::extents) return {};
    ExtentList list;
    list.extents = read_extents(ByteView(inode.fork), inode.extents, geometry);
    list.whole = list.extents.size() == inode.extents;
    if (!list.whole && !list.extents.empty()) {
        const std::uint64_t reached = list.extents.back().start + list.extents.back().count;
        list.extents.push_back({reached, 0, kEnd - reached, false, true});
    }
    return list;
}

std::vector<Extent> layout_of(const std::vector<FileExtent>& extents, std::uint64_t size, const Geometry& geometry) {
    std::vector<Extent> layout;
    std::uint64_t reached = 0;  // bytes
    const auto add = [&](Extent extent) {
        extent.length = std::min(extent.length, size - std::min(reached, size));
        if (extent.length == 0) return;
        if (!layout.empty() && layout.back().goes_on_with(extent))
            layout.back().length += extent.length;
        else
            layout.push_back(extent);
        reached += extent.length;
    };
    for (const FileExtent& extent : extents) {
        const auto start = checked_mul(extent.start, geometry.block_size);
        if (!start || *start >= size) break;
        if (*start < reached) continue;
        if (*start > reached) add(Extent::zeros(*start - reached));
        const std::uint64_t length = checked_mul(extent.count, geometry.block_size).value_or(UINT64_MAX);
        add(extent.lost        ? Extent::unknown(length)
            : extent.unwritten ? Extent::zeros(length)
                               : Extent{*geometry.offset_of(extent.block), length});
    }
    if (reached < size) add(Extent::zeros(size - reached));
    return layout;
}

}  // namespace dredger::xfs

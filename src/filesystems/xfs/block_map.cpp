#include "filesystems/xfs/block_map.h"

#include "filesystems/tools/btree_cursor.h"
#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr std::size_t kRecord = 16;  // bytes
constexpr int kMaxLevels = 16;
constexpr std::uint64_t kMaxExtents = 8 << 20;          // of a file
constexpr std::uint64_t kEnd = std::uint64_t{1} << 55;  // blocks; no file is longer

struct Packed {
    big_uint64_t l0, l1;
};

FileExtent unpacked(const Packed& record) {
    const std::uint64_t l0 = record.l0, l1 = record.l1;
    return {l0 >> 9 & ((std::uint64_t{1} << 54) - 1), (l0 & 0x1FF) << 43 | l1 >> 21, l1 & 0x1FFFFF, l0 >> 63 != 0};
}

// The tree of a file's extents, as a cursor walks it: keys are blocks of the file.
class MapTree {
  public:
    using Key = std::uint64_t;
    using Address = std::uint64_t;  // block
    struct Node {
        int level = 0;
        std::vector<std::uint64_t> keys, children;
        std::vector<FileExtent> extents;  // of a leaf
        bool is_whole = true;
    };

    MapTree(const Inode& inode, const Geometry& geometry, const Medium& volume)
        : inode_(inode), geometry_(geometry), volume_(volume) {}

    // xfs_bmdr_block: a short root in the inode.
    std::optional<Node> root() const {
        const ByteView root(inode_.fork);
        const auto level = root.as<big_uint16_t>(0), count = root.as<big_uint16_t>(2);
        const std::size_t most = inode_.fork.size() < 4 ? 0 : (inode_.fork.size() - 4) / kRecord;
        if (!level || !count || *level == 0 || *level > kMaxLevels || *count > most) return std::nullopt;
        return inner(root, 4, most, *count, *level);
    }

    std::optional<Node> read(Address block, int level) const {
        const auto offset = geometry_.offset_of(block);
        const auto bytes = offset ? bytes_at(volume_, *offset, geometry_.block_size) : std::nullopt;
        if (!bytes) return std::nullopt;
        const ByteView view(*bytes);
        const auto head = view.as<BtreeBlock>(0);
        const std::size_t header = geometry_.has_checksums ? 72 : 24;
        if (!view.has(0, geometry_.has_checksums ? "BMA3" : "BMAP") || head->bb_level != level) return std::nullopt;
        constexpr std::size_t kOwner = 56;
        if (geometry_.has_checksums && *view.as<big_uint64_t>(kOwner) != inode_.number) return std::nullopt;
        const std::size_t most = (geometry_.block_size - header) / kRecord, count = head->bb_numrecs;
        if (count > most) return std::nullopt;
        mappers_.push_back({*offset, geometry_.block_size});
        if (level > 0) return inner(view, header, most, count, level);
        Node leaf;
        leaf.extents = read_extents(*view.slice(header, count * kRecord), count, geometry_);
        leaf.is_whole = leaf.extents.size() == count;
        for (const FileExtent& extent : leaf.extents) leaf.keys.push_back(extent.start);
        return leaf.extents.empty() && count > 0 ? std::nullopt : std::optional(std::move(leaf));
    }

    int level(const Node& node) const { return node.level; }
    std::size_t count(const Node& node) const { return node.keys.size(); }
    Key key(const Node& node, std::size_t index) const { return node.keys[index]; }
    std::optional<Address> child(const Node& node, std::size_t index) const { return node.children[index]; }

    // Where the nodes lie that were read.
    std::vector<Extent> mappers() const { return mappers_; }

  private:
    // Keys, the first block of the file that each child tells of, and behind room for `most` of them the children.
    static Node inner(ByteView bytes, std::size_t keys, std::size_t most, std::size_t count, int level) {
        Node node;
        node.level = level;
        for (std::size_t i = 0; i < count; ++i) {
            node.keys.push_back(*bytes.as<big_uint64_t>(keys + i * 8));
            node.children.push_back(*bytes.as<big_uint64_t>(keys + (most + i) * 8));
        }
        return node;
    }

    const Inode& inode_;
    const Geometry& geometry_;
    const Medium& volume_;
    mutable std::vector<Extent> mappers_;
};

ExtentList extents_in(const MapTree& tree) {
    ExtentList list;
    const auto lose = [&list](std::uint64_t from, const std::optional<std::uint64_t>& to) {
        list.whole = false;
        const std::uint64_t end = to.value_or(kEnd);
        if (from < end) list.extents.push_back({from, 0, end - from, false, true});
    };
    auto root = tree.root();
    if (!root) return {{}, {}, false};
    BtreeCursor<MapTree> cursor(tree, lose);
    for (bool more = cursor.first(std::move(*root)); more && list.extents.size() <= kMaxExtents;
         more = cursor.next_leaf()) {
        const MapTree::Node& leaf = cursor.leaf();
        list.extents.insert(list.extents.end(), leaf.extents.begin(), leaf.extents.end());
        if (!leaf.is_whole) lose(leaf.extents.back().start + leaf.extents.back().count, cursor.end_of_leaf());
    }
    list.whole = list.whole && cursor.at_end();
    list.mappers = tree.mappers();
    return list;
}

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
    if (inode.format == ForkFormat::btree) return extents_in(MapTree(inode, geometry, volume));
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
        append(layout, extent);
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

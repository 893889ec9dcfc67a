#include "filesystems/apfs/object_map.h"

#include "filesystems/tools/btree_cursor.h"

namespace dredger::apfs {
namespace {

constexpr std::size_t kMostObjects = 4'000'000;

// Nodes of a map's tree are physical objects: their numbers are their blocks.
struct Tree {
    using Key = std::uint64_t;
    using Address = std::uint64_t;
    using Node = apfs::Node;

    const Blocks& blocks;

    std::optional<Node> read(Address paddr, int level) const {
        auto bytes = blocks.object(paddr, level < 0 ? OBJECT_TYPE_BTREE : OBJECT_TYPE_BTREE_NODE);
        if (!bytes) return std::nullopt;
        auto node = Node::parse(std::move(*bytes), blocks.place_of(paddr), sizeof(OmapKey), sizeof(OmapVal));
        if (!node || node->header().btn_o.o_oid != paddr || node->header().btn_o.o_subtype != OBJECT_TYPE_OMAP)
            return std::nullopt;
        return level < 0 || node->header().btn_level == level ? std::move(node) : std::nullopt;
    }
    int level(const Node& node) const { return node.header().btn_level; }
    std::size_t count(const Node& node) const { return node.count(); }
    Key key(const Node& node, std::size_t index) const { return node.key(index).u64le(0).value_or(0); }
    std::optional<Address> child(const Node& node, std::size_t index) const { return node.child(index); }
};

}  // namespace

bool ObjectMap::read(const Blocks& blocks, std::uint64_t paddr) {
    const auto bytes = blocks.object(paddr, OBJECT_TYPE_OMAP);
    if (!bytes) return false;
    const auto map = *ByteView(*bytes).as<OmapPhys>(0);
    const Tree tree{blocks};
    BtreeCursor cursor(tree);
    for (bool more = cursor.first(map.om_tree_oid.value()); more; more = cursor.next()) {
        const auto key = cursor.leaf().key(cursor.index()).as<OmapKey>(0);
        const auto value = cursor.leaf().value(cursor.index()).as<OmapVal>(0);
        if (!key || !value) continue;
        if (places_.size() >= kMostObjects) return false;
        places_.emplace(std::pair(key->ok_oid.value(), key->ok_xid.value()), Place{value->ov_paddr, value->ov_flags});
    }
    return cursor.is_whole();
}

bool ObjectMap::knows(std::uint64_t oid) const {
    const auto place = places_.lower_bound({oid, 0});
    return place != places_.end() && place->first.first == oid;
}

std::optional<ObjectMap::Place> ObjectMap::find(std::uint64_t oid, std::uint64_t xid) const {
    auto behind = places_.upper_bound({oid, xid});
    if (behind == places_.begin()) return std::nullopt;
    const auto& [key, place] = *std::prev(behind);
    if (key.first != oid || (place.flags & OMAP_VAL_DELETED) != 0) return std::nullopt;
    return place;
}

}  // namespace dredger::apfs

#include "filesystems/apfs/volume_tree.h"

#include "filesystems/tools/btree_cursor.h"

namespace dredger::apfs {
namespace {

struct Tree {
    using Key = FsKey;
    using Address = std::uint64_t;  // object
    using Node = apfs::Node;

    const VolumeTree& volume;

    std::optional<Node> read(Address oid, int level) const {
        const auto place = volume.map().find(oid, volume.xid());
        if (!place || (place->flags & OMAP_VAL_ENCRYPTED) != 0) return std::nullopt;
        const Blocks& blocks = volume.blocks();
        // Nodes of a sealed volume have no header: they are proven by what the node above keeps of them.
        const bool has_header = (place->flags & OMAP_VAL_NOHEADER) == 0;
        auto bytes = has_header ? blocks.object(place->paddr, level < 0 ? OBJECT_TYPE_BTREE : OBJECT_TYPE_BTREE_NODE)
                                : blocks.raw(place->paddr);
        if (!bytes) return std::nullopt;
        auto node = Node::parse(std::move(*bytes), blocks.place_of(place->paddr));
        if (!node || (has_header && node->header().btn_o.o_oid != oid)) return std::nullopt;
        return level < 0 || node->header().btn_level == level ? std::move(node) : std::nullopt;
    }
    int level(const Node& node) const { return node.header().btn_level; }
    std::size_t count(const Node& node) const { return node.count(); }
    Key key(const Node& node, std::size_t index) const { return parse_fs_key(node.key(index)).value_or(FsKey{}); }
    std::optional<Address> child(const Node& node, std::size_t index) const { return node.child(index); }
};

}  // namespace

bool VolumeTree::walk_from(const FsKey& from, const Visit& visit) const {
    const Tree tree{*this};
    BtreeCursor cursor(tree);
    for (bool more = cursor.lower_bound(root_, from); more; more = cursor.next()) {
        const Node& leaf = cursor.leaf();
        if (!visit({cursor.key(), leaf.key(cursor.index()), leaf.value(cursor.index())})) break;
    }
    return cursor.is_whole();
}

}  // namespace dredger::apfs

// What the trees do not tell any more: records that stand behind the last one of a node, in nodes that a tree has given
// back, in the journal's copies of nodes, and in nodes of earlier trees on free ground. A number is given to one file
// alone, so that whatever tells of a number is of one file.
#pragma once

#include <functional>
#include <map>

#include "filesystems/filesystem.h"
#include "filesystems/hfsplus/attributes.h"
#include "filesystems/hfsplus/catalog.h"
#include "filesystems/hfsplus/extents.h"
#include "filesystems/space_map.h"

namespace dredger::hfsplus {

struct FormerItem {
    std::optional<CatalogItem> item;  // as it was last; none where a thread alone tells of it
    CatalogRecord::Left left = CatalogRecord::Left::all;
    std::vector<Link> links;  // the last one first, as far as that can be told
    bool is_folder = false;
    bool from_journal = false;
};

// The trees of a volume that are there.
struct Trees {
    Btree catalog, extents, attributes;
};

class Former {
  public:
    Former(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space)
        : volume_(volume), geometry_(geometry), space_(space) {}

    // False: stopped.
    bool read(const Trees& trees,
              const std::function<bool(const char* doing, std::uint64_t done, std::uint64_t total)>& go_on);

    const std::map<std::uint32_t, FormerItem>& items() const { return items_; }
    const FormerItem* item(std::uint32_t id) const;
    // Files of which nothing tells the number, the end of each one's record alone being left.
    const std::vector<FormerItem>& nameless() const { return nameless_; }
    // What was ever told of forks and attributes.
    const ExtentsOverflow& extents() const { return extents_; }
    const Attributes& attributes() const { return attributes_; }

  private:
    void read_tree(const Btree& tree);
    void read_node(const Node& node, bool in_journal);
    void read_area(ByteView area, bool in_journal);
    void look_for_nodes(std::span<const std::byte> bytes, std::uint64_t from, std::size_t step, bool in_journal);
    bool read_journal();
    bool read_free_ground();
    void take(CatalogRecord&& record, bool in_journal);
    void settle_ends();

    const MediumPtr& volume_;
    const Geometry& geometry_;
    const SpaceMap& space_;
    std::function<bool(const char*, std::uint64_t, std::uint64_t)> go_on_;
    std::size_t node_size_ = 0;  // of the catalog
    std::map<std::uint32_t, FormerItem> items_;
    std::vector<CatalogRecord> ends_;  // of records whose id is not whole
    std::vector<FormerItem> nameless_;
    ExtentsOverflow extents_;
    Attributes attributes_;
};

}  // namespace dredger::hfsplus

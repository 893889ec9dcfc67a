#include "filesystems/btrfs/subvolumes.h"

#include <algorithm>

#include "filesystems/btrfs/files.h"

namespace dredger::btrfs {
namespace {

bool is_set(std::span<const std::byte> uuid) {
    return std::any_of(uuid.begin(), uuid.end(), [](std::byte b) { return b != std::byte{0}; });
}

void take_item(Subvolume& root, ByteView data) {
    const auto item = data.as<RootItem>(0);
    if (!item || item->refs == 0) return;
    root.bytenr = item->bytenr;
    root.generation = item->generation;
    root.is_read_only = (item->flags & ROOT_SUBVOL_RDONLY) != 0;
    // Older writers end here; what follows counts only where it was written with the rest.
    const auto more = data.as<RootItemExtension>(sizeof(RootItem));
    if (!more || more->generation_v2 != item->generation) return;
    root.is_snapshot = is_set(more->parent_uuid);
    if (more->otime.sec != 0) root.made = time_of(more->otime);
}

void take_backref(Subvolume& root, std::uint64_t parent, ByteView data) {
    const auto ref = data.as<RootRef>(0);
    const auto name = ref ? data.slice(sizeof(RootRef), ref->name_len) : tl::unexpected<Error>(Error{});
    if (!ref || !name) return;
    root.parent = parent;
    root.folder = ref->dirid;
    root.name = {reinterpret_cast<const char*>(name->bytes().data()), name->size()};
}

}  // namespace

Subvolumes read_subvolumes(const Nodes& nodes) {
    std::vector<std::uint64_t> trees = {nodes.geometry().root};
    for (const BackupRoot& backup : nodes.geometry().backups) trees.push_back(backup.tree_root);
    Subvolumes roots;
    for (std::size_t i = 0; i < trees.size() && !roots.any; ++i) {
        roots.by_id.clear();
        const bool whole = nodes.walk(trees[i], [&](const Node::Entry& entry, const Header&) {
            const Key& key = entry.key;
            if (key.objectid != FS_TREE && (key.objectid < FIRST_FREE || key.objectid > LAST_FREE)) return true;
            if (key.type == ROOT_ITEM) take_item(roots.by_id[key.objectid], entry.data);
            if (key.type == ROOT_BACKREF) take_backref(roots.by_id[key.objectid], key.offset, entry.data);
            return true;
        });
        std::erase_if(roots.by_id, [](const auto& root) { return root.second.bytenr == 0; });
        roots.any = whole || !roots.by_id.empty();
        roots.is_newest = i == 0 || roots.by_id.empty();
    }
    return roots;
}

std::vector<std::uint64_t> Subvolumes::in_order() const {
    std::vector<std::uint64_t> ids;
    for (const auto& [id, root] : by_id) ids.push_back(id);
    std::stable_sort(ids.begin(), ids.end(), [this](std::uint64_t a, std::uint64_t b) {
        const Subvolume &left = by_id.at(a), &right = by_id.at(b);
        if (left.is_read_only != right.is_read_only) return right.is_read_only;
        return left.generation > right.generation;
    });
    return ids;
}

}  // namespace dredger::btrfs

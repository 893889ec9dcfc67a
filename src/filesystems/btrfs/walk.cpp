#include "filesystems/btrfs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/posix.h"

namespace dredger::btrfs {
namespace {

constexpr std::uint64_t kTopFolder = 256;  // of every file tree

std::uint64_t mixed(std::uint64_t number, std::uint64_t more) {
    return (number ^ more) * 0x9E3779B97F4A7C15U + (number >> 29);
}

bool stores_content(const Inode& inode) {
    const unsigned type = inode.mode & kTypeMask;
    return type == kFileType || type == kFolderType || type == kSymlinkType;
}

}  // namespace

// The same in all snapshots of a file: number, birth and nothing else of it never change.
std::uint64_t BtrfsWalk::id_of(std::uint64_t number, const Inode& inode) {
    std::uint64_t id = number;
    for (const std::uint64_t part : {inode.generation, static_cast<std::uint64_t>(inode.created.seconds),
                                     std::uint64_t{inode.created.nanoseconds}})
        id = mixed(id, part);
    return id;
}

void BtrfsWalk::run() {
    const Subvolumes found = read_subvolumes(nodes_);
    if (!found.any) ++damaged_trees_;
    if (!found.is_newest) warnings_.emplace_back("the newest tree of roots is damaged: an older one is used");
    for (const auto& [id, root] : found.by_id) static_cast<Subvolume&>(roots_[id]) = root;
    order_ = found.in_order();
    for (const std::uint64_t id : order_) learn_tree(roots_[id]);
    if (!options_.live_only && !stopped_) {
        const auto is_live = [this](std::uint64_t root, std::uint64_t inode) {
            const auto tree = roots_.find(root);
            return tree != roots_.end() && has_inode(tree->second, inode);
        };
        stopped_ = !former_.read(nodes_, is_live, options_.go_on);
        for (const auto& [root, files] : former_.files())
            for (const auto& [number, file] : files) {
                if (file.inode) wanted_ids_.insert(id_of(number, *file.inode));
                file.extents.each([&](const FileExtent& e) {
                    wanted_extents_[e.logical] = e.generation;
                    writings_.add(e.logical, e.stored, e.generation);
                });
            }
    }
    for (const std::uint64_t id : order_)
        if (options_.snapshots || !roots_[id].is_frozen()) emit_tree(id, roots_[id]);
    writings_.seal();
    if (!options_.live_only) walk_deleted();
    warn_of(damaged_trees_, "trees are damaged: the files in their lost parts are missing");
}

void BtrfsWalk::learn_tree(Root& root) {
    bool is_folder = false;
    std::uint64_t number = 0;
    const auto visit = [&](const Node::Entry& entry, const Header&) {
        const Key& key = entry.key;
        if (key.type == INODE_ITEM) {
            const auto inode = parse_inode(entry.data);
            number = key.objectid;
            is_folder = inode && (inode->mode & kTypeMask) == kFolderType;
            // One without a name only waits for being removed.
            if (inode && inode->links > 0) root.inodes[number] = true;
            if (root.inodes.size() % 65'536 == 1) go_on("reading trees", root.inodes.size(), 0);
        } else if (key.type == INODE_REF && is_folder && key.objectid == number && number != kTopFolder) {
            const auto names = names_in(key, entry.data);
            if (!names.empty()) root.folders[number] = names.front();
        }
        return !stopped_;
    };
    const bool whole = nodes_.walk(root.bytenr, visit, [&](std::uint64_t node) {
        const bool is_new = learned_nodes_.insert(node).second;
        root.shares_nodes = root.shares_nodes || !is_new;
        return is_new;
    });
    if (!whole && !stopped_) ++damaged_trees_;
}

bool BtrfsWalk::has_inode(Root& root, std::uint64_t number) const {
    if (const auto known = root.inodes.find(number); known != root.inodes.end()) return known->second;
    if (!root.shares_nodes) return false;
    const auto found = whole(root, number).inode;
    return root.inodes[number] = found && found->links > 0;
}

const std::optional<Name>& BtrfsWalk::folder_in(Root& root, std::uint64_t number) {
    const auto [known, is_new] = root.folders.try_emplace(number);
    if (is_new && root.shares_nodes) {
        const File folder = whole(root, number);
        if (folder.inode && (folder.inode->mode & kTypeMask) == kFolderType && !folder.names.empty())
            known->second = folder.names.front();
    }
    return known->second;
}

FolderPlace BtrfsWalk::place_of(std::uint64_t root, std::uint64_t folder) {
    using FolderKey = std::pair<std::uint64_t, std::uint64_t>;  // root, and folder in it
    bool is_known = true;
    // A subvolume stands in a folder of another one, under a name of its own.
    const auto step_of_root = [this](std::uint64_t number) -> std::optional<FolderStep<FolderKey>> {
        if (number == FS_TREE) return FolderStep<FolderKey>{{}, "", true};
        const auto live = roots_.find(number);
        if (live != roots_.end() && !live->second.name.empty())
            return FolderStep<FolderKey>{{live->second.parent, live->second.folder}, live->second.name, false};
        const auto former = former_.roots().find(number);
        if (former == former_.roots().end()) return std::nullopt;
        return FolderStep<FolderKey>{{former->second.parent, former->second.folder}, former->second.name, false};
    };
    const auto step_of = [&](const FolderKey& key) -> std::optional<FolderStep<FolderKey>> {
        const auto [tree_number, number] = key;
        if (number == kTopFolder) return step_of_root(tree_number);
        if (const auto tree = roots_.find(tree_number); tree != roots_.end())
            if (const auto& found = folder_in(tree->second, number))
                return FolderStep<FolderKey>{{tree_number, found->parent}, found->name, false};
        const FormerFile* file = former_.file(tree_number, number);
        const auto* former = file != nullptr ? file->name() : nullptr;
        if (former != nullptr) return FolderStep<FolderKey>{{tree_number, former->first}, former->second, false};
        // Its subvolume is known all the same.
        is_known = false;
        return FolderStep<FolderKey>{{tree_number, kTopFolder}, fmt::format("(folder {})", number), false};
    };
    FolderPlace place = folder_place(FolderKey{root, folder}, step_of,
                                     [](const FolderKey& key) { return fmt::format("(subvolume {})", key.first); });
    place.is_known = place.is_known && is_known;
    return place;
}

void BtrfsWalk::File::take(const Node::Entry& entry, std::uint64_t leaf_generation) {
    const Key& key = entry.key;
    if (key.type == INODE_ITEM) inode = parse_inode(entry.data);
    if (key.type == INODE_REF || key.type == INODE_EXTREF)
        for (Name& name : names_in(key, entry.data)) names.push_back(std::move(name));
    if (key.type == EXTENT_DATA)
        if (auto extent = parse_file_extent(key, entry.data)) extents.add(*extent, leaf_generation);
}

// Looked up, whatever else of the tree was passed over.
BtrfsWalk::File BtrfsWalk::whole(const Root& root, std::uint64_t number) const {
    File file(number);
    nodes_.walk_from(root.bytenr, {number, 0, 0}, [&](const Node::Entry& entry, const Header& header) {
        if (entry.key.objectid != number) return false;
        file.take(entry, header.generation);
        return true;
    });
    return file;
}

void BtrfsWalk::emit_tree(std::uint64_t id, const Root& root) {
    File file;
    bool passed_over = false;  // since the last entry
    const auto finish = [&] {
        if (file.number == 0 || file.number == kTopFolder) return;
        if (file.is_cut || passed_over) file = whole(root, file.number);
        emit_file(id, root, file);
    };
    const auto visit = [&](const Node::Entry& entry, const Header& header) {
        const std::uint64_t number = entry.key.objectid;
        if (number < FIRST_FREE || number > LAST_FREE) return true;
        if (number != file.number) {
            finish();
            file = File(number);
        }
        file.is_cut = file.is_cut || passed_over;
        passed_over = false;
        file.take(entry, header.generation);
        return !stopped_;
    };
    nodes_.walk(root.bytenr, visit, [&](std::uint64_t node) {
        const bool is_new = told_nodes_.insert(node).second;
        passed_over = passed_over || !is_new;
        return is_new;
    });
    if (!stopped_) finish();
}

// A number for all of a file that is told of, but for when it was read last.
std::uint64_t BtrfsWalk::state_of(const File& file, std::uint64_t id) {
    const Inode& inode = *file.inode;
    std::uint64_t state = id;
    for (const FileTime& time : {inode.modified, inode.changed})
        state = mixed(mixed(state, static_cast<std::uint64_t>(time.seconds)), time.nanoseconds);
    for (const std::uint64_t part : {inode.size, inode.stored, std::uint64_t{inode.mode}}) state = mixed(state, part);
    file.extents.each([&](const FileExtent& e) { state = mixed(mixed(state, e.logical), e.generation); });
    for (const Name& name : file.names)
        state = mixed(mixed(state, name.parent), std::hash<std::string_view>()(name.name));
    return state;
}

void BtrfsWalk::emit_file(std::uint64_t id, const Root& root, const File& file) {
    if (!file.inode || file.inode->links == 0 || !stores_content(*file.inode)) return;
    const Inode& inode = *file.inode;
    Record record;
    tell_inode(record, file.number, inode);
    record.identity = {id, file.number, inode.generation};
    record.shares = id_of(file.number, inode);
    const bool is_new = told_.insert(state_of(file, record.shares)).second;
    if (!is_new && (root.is_snapshot || root.shares_nodes)) return;
    if (root.is_frozen()) {
        record.version = root.generation;
        add_snapshot_facts(record, root.name, root.made);
    }
    if (!record.is_folder) {
        file.extents.lay(nodes_.chunks(), record, inode.stored);
        if (!options_.live_only)
            file.extents.each([&](const FileExtent& e) { writings_.add(e.logical, e.stored, e.generation); });
    }
    for (const Name& name : file.names) {
        Record named = record;
        named.folder = place_of(id, name.parent).path;
        named.name = name.name;
        if (wanted_ids_.contains(record.shares)) twins_.try_emplace(record.shares, named.path());
        file.extents.each([&](const FileExtent& e) {
            const auto wanted = wanted_extents_.find(e.logical);
            if (wanted != wanted_extents_.end() && wanted->second == e.generation)
                holders_.try_emplace(e.logical, e.generation, Twin{record.shares, named.path()});
        });
        emit(std::move(named));
    }
}

void BtrfsWalk::walk_deleted() {
    for (const auto& [root, files] : former_.files())
        for (const auto& [number, file] : files) {
            if (stopped_) return;
            emit_former(root, number, file);
        }
}

// What lives on elsewhere is not overwritten by that: a snapshot, or a copy that shares its content.
void BtrfsWalk::find_twin(Record& record, std::uint64_t number, const FormerFile& file) const {
    if (const auto twin = twins_.find(id_of(number, *file.inode)); twin != twins_.end()) {
        record.notes.push_back(fmt::format("it lives on in a snapshot: {}", twin->second));
        return;
    }
    bool all = !file.extents.empty();
    const Twin* twin = nullptr;
    file.extents.each([&](const FileExtent& e) {
        const auto holder = holders_.find(e.logical);
        if (holder == holders_.end() || holder->second.first != e.generation)
            all = false;
        else if (twin == nullptr)
            twin = &holder->second.second;
    });
    if (!all || twin == nullptr) return;
    record.shares = twin->id;
    record.notes.push_back(fmt::format("its content is shared with a file that is there: {}", twin->path));
}

void BtrfsWalk::emit_former(std::uint64_t root, std::uint64_t number, const FormerFile& file) {
    if (number == kTopFolder) return;
    const auto* name = file.name();
    Record record;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    if (file.inode) {
        if (!stores_content(*file.inode)) return;
        tell_inode(record, number, *file.inode);
        record.identity = {root, number, file.inode->generation};
        record.shares = id_of(number, *file.inode);
    } else {
        // Without its inode, the extents tell whole sectors, and a name alone nothing of what bore it.
        if (name == nullptr && file.extents.empty()) return;
        record.identity = {root, number, 0};
    }
    record.deleted = file.deleted;
    record.version = file.inode_leaf;
    if (name != nullptr) {
        const FolderPlace place = place_of(root, name->first);
        record.folder = place.path;
        record.name = name->second;
        if (!place.is_known)
            record.notes.emplace_back("a folder above it is not known any more; a number stands for it");
    } else {
        if (record.is_folder) return;
        record.folder = place_of(root, kTopFolder).path;
        name_by_number(record, fmt::format("(inode {})", number),
                       "its name is not known any more; the number of its inode stands for it");
    }
    if (record.is_folder) return emit(std::move(record));
    if (!file.inode) {
        file.extents.each([&](const FileExtent& e) { record.size = std::max(record.size, e.start + e.length); });
        record.notes.emplace_back("its inode is not there any more: what is listed is whole sectors");
    }
    const bool is_all_hole = file.inode && file.inode->stored == 0;
    if (file.extents.empty() && record.size > 0 && !is_all_hole) {
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("nothing is left of the list of its extents");
    } else if (record.size > 0) {
        const auto logicals =
            file.extents.lay(nodes_.chunks(), record, file.inode ? std::optional(file.inode->stored) : std::nullopt);
        find_sums(record, file.extents, logicals);
    } else if (!file.inode) {
        record.trust = LayoutTrust::none;
    }
    record.notes.emplace_back("an older generation of the file tree tells of it");
    if (file.inode) find_twin(record, number, file);
    emit(std::move(record));
}

void BtrfsWalk::find_sums(Record& record, const FileExtents& extents,
                          const std::vector<std::uint64_t>& logicals) const {
    Writings own;
    extents.each([&](const FileExtent& e) { own.add(e.logical, e.stored, e.generation); });
    own.seal();
    std::vector<Former::Summed> ranges;
    for (std::size_t i = 0; i < logicals.size(); ++i) {
        const Extent& extent = record.layout.extents[i];
        if (!extent.is_stored()) continue;
        if (logicals[i] == 0 || logicals[i] % nodes_.geometry().sector_size != 0) return;
        const LogicalRange range{logicals[i], extent.length};
        const std::uint64_t generation = own.last_in(range.logical, range.length);
        ranges.push_back({range, generation, writings_.next_after(generation, range.logical, range.length)});
    }
    if (ranges.empty()) return;
    record.layout.sums = former_.sums_of(nodes_, ranges);
    record.layout.sum_unit = record.layout.sums.empty() ? 0 : nodes_.geometry().sector_size;
}

}  // namespace dredger::btrfs

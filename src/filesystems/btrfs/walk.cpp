#include "filesystems/btrfs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/posix.h"

namespace dredger::btrfs {
namespace {

constexpr std::uint64_t kTopFolder = 256;  // of every file tree

bool stores_content(const Inode& inode) {
    const unsigned type = inode.mode & kTypeMask;
    return type == kFileType || type == kFolderType || type == kSymlinkType;
}

}  // namespace

// The same in all snapshots of a file: number, birth and nothing else of it never change.
std::uint64_t Walk::id_of(std::uint64_t number, const Inode& inode) {
    std::uint64_t id = number;
    for (const std::uint64_t part : {inode.generation, static_cast<std::uint64_t>(inode.created.seconds),
                                     std::uint64_t{inode.created.nanoseconds}})
        id = (id ^ part) * 0x9E3779B97F4A7C15U + (id >> 29);
    return id;
}

void Walk::run() {
    read_roots();
    for (auto& [id, root] : roots_) learn_tree(root);
    if (!options_.live_only && !stopped_) {
        const auto is_live = [this](std::uint64_t root, std::uint64_t inode) {
            const auto tree = roots_.find(root);
            return tree != roots_.end() && tree->second.inodes.contains(inode);
        };
        stopped_ = !former_.read(nodes_, is_live, options_.go_on);
        for (const auto& [root, files] : former_.files())
            for (const auto& [number, file] : files) {
                if (file.inode) wanted_ids_.insert(id_of(number, *file.inode));
                file.extents.each([&](const FileExtent& e) { wanted_extents_[e.logical] = e.generation; });
            }
    }
    for (const auto& [id, root] : roots_) emit_tree(id, root);
    if (!options_.live_only) walk_deleted();
    warn_of(damaged_trees_, "trees are damaged: the files in their lost parts are missing");
}

// The newest tree of roots that can be read.
void Walk::read_roots() {
    std::vector<std::uint64_t> candidates = {nodes_.geometry().root};
    for (const BackupRoot& backup : nodes_.geometry().backups) candidates.push_back(backup.tree_root);
    for (std::size_t i = 0; i < candidates.size(); ++i) {
        roots_.clear();
        const bool whole = nodes_.walk(candidates[i], [&](const Node::Entry& entry, const Header&) {
            const Key& key = entry.key;
            if (key.objectid != FS_TREE && (key.objectid < FIRST_FREE || key.objectid > LAST_FREE)) return true;
            if (key.type == ROOT_ITEM) {
                const auto item = entry.data.as<RootItem>(0);
                if (item && item->refs > 0) roots_[key.objectid].tree = item->bytenr;
            } else if (key.type == ROOT_BACKREF) {
                const auto ref = entry.data.as<RootRef>(0);
                const auto name =
                    ref ? entry.data.slice(sizeof(RootRef), ref->name_len) : tl::unexpected<Error>(Error{});
                if (!ref || !name) return true;
                Root& root = roots_[key.objectid];
                root.parent = key.offset;
                root.folder = ref->dirid;
                root.name = {reinterpret_cast<const char*>(name->bytes().data()), name->size()};
            }
            return true;
        });
        std::erase_if(roots_, [](const auto& root) { return root.second.tree == 0; });
        if (i > 0 && !roots_.empty())
            warnings_.emplace_back("the newest tree of roots is damaged: an older one is used");
        if (whole || !roots_.empty()) return;
    }
    ++damaged_trees_;
}

void Walk::learn_tree(Root& root) {
    bool is_folder = false;
    std::uint64_t number = 0;
    const bool whole = nodes_.walk(root.tree, [&](const Node::Entry& entry, const Header&) {
        const Key& key = entry.key;
        if (key.type == INODE_ITEM) {
            const auto inode = parse_inode(entry.data);
            number = key.objectid;
            is_folder = inode && (inode->mode & kTypeMask) == kFolderType;
            // One without a name only waits for being removed.
            if (inode && inode->links > 0) root.inodes.insert(number);
        } else if (key.type == INODE_REF && is_folder && key.objectid == number && number != kTopFolder) {
            const auto names = names_in(key, entry.data);
            if (!names.empty()) root.folders[number] = names.front();
        }
        if (options_.go_on && root.inodes.size() % 65'536 == 1 &&
            !options_.go_on("reading trees", root.inodes.size(), 0))
            stopped_ = true;
        return !stopped_;
    });
    if (!whole && !stopped_) ++damaged_trees_;
}

FolderPlace Walk::place_of(std::uint64_t root, std::uint64_t folder) const {
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
            if (const auto found = tree->second.folders.find(number); found != tree->second.folders.end())
                return FolderStep<FolderKey>{{tree_number, found->second.parent}, found->second.name, false};
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

void Walk::emit_tree(std::uint64_t id, const Root& root) {
    std::uint64_t number = 0;
    std::optional<Inode> inode;
    std::vector<Name> names;
    FileExtents extents;
    const auto finish = [&] {
        if (inode && inode->links > 0 && number != kTopFolder) emit_file(id, number, *inode, names, extents);
        inode.reset();
        names.clear();
        extents = {};
    };
    nodes_.walk(root.tree, [&](const Node::Entry& entry, const Header& header) {
        const Key& key = entry.key;
        if (key.objectid < FIRST_FREE || key.objectid > LAST_FREE) return true;
        if (key.objectid != number) {
            finish();
            number = key.objectid;
        }
        if (key.type == INODE_ITEM) inode = parse_inode(entry.data);
        if (key.type == INODE_REF || key.type == INODE_EXTREF)
            for (Name& name : names_in(key, entry.data)) names.push_back(std::move(name));
        if (key.type == EXTENT_DATA)
            if (auto extent = parse_file_extent(key, entry.data)) extents.add(std::move(*extent), header.generation);
        return !stopped_;
    });
    finish();
}

void Walk::emit_file(std::uint64_t id, std::uint64_t number, const Inode& inode, const std::vector<Name>& names,
                     const FileExtents& extents) {
    if (!stores_content(inode)) return;
    Record record;
    tell_inode(record, number, inode);
    record.identity = {id, number, inode.generation};
    record.shares = id_of(number, inode);
    if (!record.is_folder) extents.lay(nodes_.chunks(), record, inode.stored);
    for (const Name& name : names) {
        Record named = record;
        named.folder = place_of(id, name.parent).path;
        named.name = name.name;
        if (wanted_ids_.contains(record.shares)) twins_.try_emplace(record.shares, named.path());
        extents.each([&](const FileExtent& e) {
            const auto wanted = wanted_extents_.find(e.logical);
            if (wanted != wanted_extents_.end() && wanted->second == e.generation)
                holders_.try_emplace(e.logical, e.generation, Twin{record.shares, named.path()});
        });
        emit(std::move(named));
    }
}

void Walk::walk_deleted() {
    for (const auto& [root, files] : former_.files())
        for (const auto& [number, file] : files) {
            if (stopped_) return;
            emit_former(root, number, file);
        }
}

// What lives on elsewhere is not overwritten by that: a snapshot, or a copy that shares its content.
void Walk::find_twin(Record& record, std::uint64_t number, const FormerFile& file) const {
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

void Walk::emit_former(std::uint64_t root, std::uint64_t number, const FormerFile& file) {
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
    if (name != nullptr) {
        const FolderPlace place = place_of(root, name->first);
        record.folder = place.path;
        record.name = name->second;
        if (!place.is_known)
            record.notes.emplace_back("a folder above it is not known any more; a number stands for it");
    } else {
        if (record.is_folder) return;
        record.folder = place_of(root, kTopFolder).path;
        record.name = fmt::format("(inode {})", number);
        record.name_is_whole = false;
        record.name_is_placeholder = true;
        record.notes.emplace_back("its name is not known any more; the number of its inode stands for it");
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
        find_sums(record, logicals);
    } else if (!file.inode) {
        record.trust = LayoutTrust::none;
    }
    record.notes.emplace_back("an older generation of the file tree tells of it");
    if (file.inode) find_twin(record, number, file);
    emit(std::move(record));
}

void Walk::find_sums(Record& record, const std::vector<std::uint64_t>& logicals) const {
    std::vector<LogicalRange> ranges;
    for (std::size_t i = 0; i < logicals.size(); ++i) {
        const Extent& extent = record.layout.extents[i];
        if (!extent.is_stored()) continue;
        if (logicals[i] == 0 || logicals[i] % nodes_.geometry().sector_size != 0) return;
        ranges.push_back({logicals[i], extent.length});
    }
    if (ranges.empty()) return;
    record.layout.sums = former_.sums_of(nodes_, ranges);
    record.layout.sum_unit = record.layout.sums.empty() ? 0 : nodes_.geometry().sector_size;
}

}  // namespace dredger::btrfs

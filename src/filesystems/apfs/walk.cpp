#include "filesystems/apfs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/posix.h"
#include "filesystems/tools/decmpfs.h"
#include "volumes/trace.h"

namespace dredger::apfs {
namespace {

constexpr std::string_view kSymlinkTarget = "com.apple.fs.symlink";
constexpr std::string_view kFinderInfo = "Finder information";
constexpr std::uint64_t kMostTaken = std::uint64_t{8} << 30;   // bytes in use, but for content, that are looked at
constexpr std::uint64_t kMostGround = std::uint64_t{1} << 30;  // bytes of free ground
constexpr std::uint64_t kAtOnce = 1 << 20;                     // bytes read together
constexpr std::size_t kMostHeld = 2'000'000;

bool stores_content(const Inode& inode) {
    const unsigned type = inode.mode & kTypeMask;
    return type == kFileType || type == kFolderType || type == kSymlinkType;
}

void tell_inode(Record& record, std::uint64_t tree, std::uint64_t number, const Inode& inode) {
    record.identity = {tree, number, 0};
    record.is_folder = inode.is_folder();
    record.created = inode.created;
    record.modified = inode.modified;
    record.changed = inode.changed;
    record.accessed = inode.accessed;
    tell_inode_facts(record, number, inode.mode, inode.owner, inode.group);
}

}  // namespace

void ApfsWalk::run() {
    for (VolumeAtHand& volume : volumes_at_hand(container_)) {
        if (volume.state.is_encrypted()) {
            warnings_.push_back(fmt::format("volume \"{}\" is encrypted: its files can't be read", volume.state.name));
            continue;
        }
        if (!volume.whole) ++damaged_trees_;
        Volume& added = volumes_.emplace_back();
        static_cast<VolumeAtHand&>(added) = std::move(volume);
    }
    for (Volume& volume : volumes_) learn(volume);
    for (Volume& volume : volumes_) walk_live(volume);
    if (!options_.live_only && !stopped_) {
        for (Volume& volume : volumes_)
            if (options_.snapshots)
                for (const Snapshot& snapshot : volume.snapshots) walk_snapshot(volume, snapshot);
        look_for_nodes();
        for (Volume& volume : volumes_) walk_former(volume);
    }
    warn_of(damaged_trees_, "trees are damaged: the files in their lost parts are missing");
}

void ApfsWalk::File::take(const VolumeTree::Entry& entry) {
    switch (entry.key.type) {
        case APFS_TYPE_INODE:
            inode = parse_inode(entry.value);
            if (inode && !inode->name.empty()) names.push_back({inode->parent, inode->name, 0});
            break;
        case APFS_TYPE_XATTR:
            if (auto attribute = parse_attribute(entry.key_bytes, entry.value))
                attributes.push_back(std::move(*attribute));
            break;
        case APFS_TYPE_SIBLING_LINK:
            if (const auto sibling = parse_sibling(entry.value)) {
                const bool is_known = std::any_of(names.begin(), names.end(), [&](const FormerName& one) {
                    return one.parent == sibling->parent && one.name == sibling->name;
                });
                if (!is_known) names.push_back({sibling->parent, sibling->name, 0});
            }
            break;
        case APFS_TYPE_FILE_EXTENT:
            if (const auto extent = parse_file_extent(entry.key, entry.value)) extents.push_back(*extent);
            break;
        default: break;
    }
}

void ApfsWalk::each_file(const VolumeTree& tree, const std::function<void(const File&)>& visit) {
    File file;
    const auto finish = [&] {
        if (file.number >= MIN_USER_INO_NUM && file.inode) visit(file);
    };
    const bool whole = tree.walk([&](const VolumeTree::Entry& entry) {
        if (entry.key.oid != file.number) {
            finish();
            file = File();
            file.number = entry.key.oid;
        }
        file.take(entry);
        return !stopped_;
    });
    if (!stopped_) finish();
    if (!whole && !stopped_) ++damaged_trees_;
}

void ApfsWalk::learn(Volume& volume) {
    std::uint64_t seen = 0;
    const VolumeTree tree = volume.tree(blocks_);
    tree.walk([&](const VolumeTree::Entry& entry) {
        if (entry.key.type != APFS_TYPE_INODE) return true;
        const auto inode = parse_inode(entry.value);
        // One in the private folder only waits for being removed.
        if (!inode || inode->parent == PRIV_DIR_INO_NUM) return true;
        volume.live.insert(entry.key.oid);
        if (inode->is_folder()) volume.folders[entry.key.oid] = {inode->parent, inode->name, 0};
        return ++seen % 65'536 != 1 || go_on("reading trees", seen, 0);
    });
}

void ApfsWalk::walk_live(Volume& volume) {
    const VolumeTree tree = volume.tree(blocks_);
    each_file(tree, [&](const File& file) { emit_file(volume, file, tree, nullptr); });
}

// What stands in a snapshot and nowhere in today's tree was deleted since it was made.
void ApfsWalk::walk_snapshot(Volume& volume, const Snapshot& snapshot) {
    if (stopped_) return;
    const auto bytes = blocks_.object(snapshot.super, OBJECT_TYPE_FS);
    const auto super = bytes ? ByteView(*bytes).as<ApfsSuperblock>(0) : fail(ErrorKind::not_understood, "");
    if (!super) {
        ++damaged_trees_;
        return;
    }
    const VolumeTree tree(blocks_, volume.map, super->apfs_root_tree_oid, snapshot.xid);
    // Nodes that it shares with today's tree tell nothing new, but for the names of folders.
    std::vector<File> files;
    each_file(tree, [&](const File& file) {
        if (volume.live.contains(file.number) || !volume.in_snapshots.insert(file.number).second) return;
        if (file.inode->is_folder() && !file.names.empty())
            volume.snapshot_folders.try_emplace(file.number, file.names.front());
        files.push_back(file);
    });
    for (const File& file : files) emit_file(volume, file, tree, &snapshot);
}

FolderPlace ApfsWalk::place_of(const Volume& volume, std::uint64_t folder) const {
    return folder_place(
        folder,
        [&](std::uint64_t number) -> std::optional<FolderStep<std::uint64_t>> {
            using Step = FolderStep<std::uint64_t>;
            if (number == ROOT_DIR_INO_NUM) return Step{0, volume.folder, true};
            if (const auto live = volume.folders.find(number); live != volume.folders.end())
                return Step{live->second.parent, live->second.name, false};
            if (const auto kept = volume.snapshot_folders.find(number); kept != volume.snapshot_folders.end())
                return Step{kept->second.parent, kept->second.name, false};
            const FormerFile* former = volume.former.file(number);
            const FormerName* name = former != nullptr ? former->name() : nullptr;
            if (name != nullptr) return Step{name->parent, name->name, false};
            return std::nullopt;
        },
        [&](std::uint64_t number) {
            return joined(volume.folder, number != 0 ? fmt::format("(folder {})", number) : "(folder not known)");
        });
}

void ApfsWalk::emit_file(Volume& volume, const File& file, const VolumeTree& tree, const Snapshot* snapshot) {
    const Inode& inode = *file.inode;
    if (!stores_content(inode)) return;
    const ExtentsOf extents_of = [&](std::uint64_t stream) {
        if (stream == file.number) return file.extents;
        File other;
        tree.walk_from({stream, APFS_TYPE_FILE_EXTENT, 0}, [&](const VolumeTree::Entry& entry) {
            if (entry.key.oid != stream || entry.key.type != APFS_TYPE_FILE_EXTENT) return false;
            other.take(entry);
            return true;
        });
        return other.extents;
    };
    const bool waits_for_removal = inode.parent == PRIV_DIR_INO_NUM;
    for (const FormerName& name : file.names) {
        Record record;
        tell_inode(record, volume.state.oid(), file.number, inode);
        record.folder = place_of(volume, name.parent).path;
        record.name = name.name;
        if (waits_for_removal) {
            record.state = State::deleted;
            record.folder = volume.folder;
            name_by_number(record, fmt::format("(inode {})", file.number),
                           "its last name was removed while it was in use");
        }
        if (snapshot == nullptr) {
            if (held_.size() < kMostHeld)
                for (const FileExtent& extent : extents_of(inode.private_id))
                    if (extent.paddr != 0)
                        held_.try_emplace(extent.paddr, Held{divide_up(extent.length, blocks_.size()),
                                                             record.content_key(), inode.is_clone});
            emit_content(std::move(record), inode, file.attributes, extents_of);
            continue;
        }
        add_snapshot_facts(record, snapshot->name, snapshot->made);
        record.version = snapshot->xid;
        // The snapshot holds its content: it is there, although nothing of today leads to it.
        Record kept = record;
        kept.folder = joined(fmt::format("(snapshot {})", snapshot->name), record.folder);
        if (!kept.is_folder) emit_content(std::move(kept), inode, file.attributes, extents_of);
        record.state = State::deleted;
        record.notes.push_back(fmt::format("it lives on in the snapshot {}", snapshot->name));
        emit_content(std::move(record), inode, file.attributes, extents_of);
    }
}

// Of a remnant it shows in what the inode counts whether all its extents are told.
void ApfsWalk::lay(Record& record, const Inode& inode, const std::vector<FileExtent>& extents) const {
    record.size = inode.size;
    if (record.origin == Origin::record) return record.layout.lay(places_of(blocks_, extents, inode.size, true));
    if (extents.empty() && inode.size > 0) {
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("nothing is left of the list of its extents");
        return;
    }
    std::uint64_t stored = 0;
    for (const FileExtent& extent : extents) stored += extent.paddr != 0 ? extent.length : 0;
    const bool all_told = stored >= inode.allocated - std::min(inode.allocated, inode.sparse);
    record.layout.lay(places_of(blocks_, extents, inode.size, all_told));
    if (all_told) return;
    record.trust = LayoutTrust::damaged;
    record.notes.emplace_back("a part of the list of its extents is lost");
}

void ApfsWalk::emit_content(Record&& record, const Inode& inode, const std::vector<Attribute>& attributes,
                            const ExtentsOf& extents_of) {
    if (record.is_folder) return emit(std::move(record));
    const auto attribute = [&](std::string_view name) -> const Attribute* {
        for (const Attribute& one : attributes)
            if (one.name == name) return &one;
        return nullptr;
    };
    const auto stored = [&](const Attribute& one) {
        return one.is_embedded() ? std::vector{one.place} : places_of(blocks_, extents_of(one.stream), one.size, false);
    };
    const Attribute* packed = inode.is_compressed() ? attribute(kDecmpfsAttribute) : nullptr;
    const Attribute* target = attribute(kSymlinkTarget);
    if (packed != nullptr) {
        record.attributes.emplace_back("compressed");
        const Attribute* fork = attribute(kResourceForkAttribute);
        lay_compressed(blocks_.container(), stored(*packed), fork != nullptr ? stored(*fork) : std::vector<Extent>(),
                       record);
    } else if (target != nullptr && (inode.mode & kTypeMask) == kSymlinkType) {
        // The text that it leads to, without the zero behind it.
        record.size = target->size > 0 ? target->size - 1 : 0;
        auto places = stored(*target);
        if (!places.empty() && places.back().length > 0) --places.back().length;
        record.layout.lay(places);
        record.layout.within_records = target->is_embedded();
    } else {
        const auto extents = extents_of(inode.private_id);
        lay(record, inode, extents);
        if (record.state == State::deleted) find_twin(record, inode, extents);
    }
    for (const Attribute& one : attributes) {
        const bool is_told = one.name == kDecmpfsAttribute || one.name == kSymlinkTarget ||
                             (packed != nullptr && one.name == kResourceForkAttribute);
        if (!is_told && one.size > 0) emit(stream_of(record, one.name, stored(one), one.size, one.is_embedded()));
    }
    if (inode.finder_place.length > 0) {
        const auto info = bytes_at(*blocks_.container(), inode.finder_place.offset,
                                   static_cast<std::size_t>(inode.finder_place.length));
        if (info && !(ByteView(*info).is_uniform() && info->front() == std::byte{0}))
            emit(stream_of(record, kFinderInfo, {inode.finder_place}, inode.finder_place.length, true));
    }
    emit(std::move(record));
}

// A copy that shares its blocks is no other owner of them.
void ApfsWalk::find_twin(Record& record, const Inode& inode, const std::vector<FileExtent>& extents) const {
    if (!inode.is_clone) return;
    const Held* twin = nullptr;
    for (const FileExtent& extent : extents) {
        if (extent.paddr == 0) continue;
        const auto held = held_.find(extent.paddr);
        if (held == held_.end() || held->second.blocks != divide_up(extent.length, blocks_.size()) ||
            (twin != nullptr && held->second.key != twin->key))
            return;
        twin = &held->second;
    }
    if (twin == nullptr || !twin->is_clone) return;
    record.shares = twin->key;
    record.notes.emplace_back("its content is shared with a file that is there");
}

// Older nodes stand wherever nothing was written since: first in what is in use without being a live file's content,
// then on free ground.
void ApfsWalk::look_for_nodes() {
    const std::uint64_t size = blocks_.size(), units = space_.units();
    for (const bool taken : {true, false}) {
        std::uint64_t left = (taken ? kMostTaken : kMostGround) / size;
        for (std::uint64_t at = 0; at < units && left > 0 && !stopped_;) {
            if (space_.taken(at) != taken) {
                ++at;
                continue;
            }
            if (const auto held = held_.upper_bound(at); taken && held != held_.begin()) {
                const auto& [first, run] = *std::prev(held);
                if (at < first + run.blocks) {
                    at = first + run.blocks;
                    continue;
                }
            }
            if (const std::uint64_t zeros = blocks_.container()->zeros_from(at * size) / size; zeros > 0) {
                at += zeros;
                continue;
            }
            std::uint64_t count = 0;
            while (at + count < units && count < kAtOnce / size && space_.taken(at + count) == taken &&
                   (!taken || count == 0 || !held_.contains(at + count)))
                ++count;
            count = std::min(count, left);
            if (!go_on("reading older trees", at, units)) return;
            const auto bytes = bytes_at(*blocks_.container(), at * size, static_cast<std::size_t>(count * size));
            for (std::uint64_t i = 0; bytes && i < count; ++i) {
                const auto there = std::span(*bytes).subspan(static_cast<std::size_t>(i * size), size);
                const auto header = *ByteView(there).as<ObjPhys>(0);
                const std::uint32_t type = header.o_type & OBJECT_TYPE_MASK;
                if ((type != OBJECT_TYPE_BTREE && type != OBJECT_TYPE_BTREE_NODE) ||
                    header.o_subtype != OBJECT_TYPE_FSTREE || !has_right_sum(there))
                    continue;
                if (const auto node = Node::parse({there.begin(), there.end()}, (at + i) * size)) take_node(*node);
            }
            at += count;
            left -= count;
        }
    }
}

// Which volume a node was of is not told in it; the number of the object is in its map, or in that of an older state.
ApfsWalk::Volume* ApfsWalk::volume_of(const Node& node) {
    for (Volume& volume : volumes_)
        if (volume.map.knows(node.header().btn_o.o_oid)) return &volume;
    // A file of it that is still live tells, too.
    for (Volume& volume : volumes_)
        for (std::size_t i = 0; i < node.count(); ++i) {
            const auto key = parse_fs_key(node.key(i));
            if (key && key->type == APFS_TYPE_INODE && volume.live.contains(key->oid)) return &volume;
        }
    return volumes_.empty() ? nullptr : &volumes_.front();
}

void ApfsWalk::take_node(const Node& node) {
    if (Volume* volume = volume_of(node)) {
        const auto is_live = [volume](std::uint64_t inode) {
            return volume->live.contains(inode) || volume->in_snapshots.contains(inode);
        };
        if (node.is_leaf()) volume->former.take(node, is_live);
        // One that was a leaf before may have become a node above others.
        volume->former.take_remains(
            remains_of(node, blocks_.size(), container_.super().nx_block_count, volume->state.super.apfs_next_obj_id),
            node.xid(), is_live);
    }
}

void ApfsWalk::walk_former(Volume& volume) {
    volume.former.settle([&](std::uint64_t number) {
        const FormerFile* former = volume.former.file(number);
        return number == ROOT_DIR_INO_NUM || volume.folders.contains(number) ||
               volume.snapshot_folders.contains(number) || (former != nullptr && former->is_folder);
    });
    for (const auto& [number, file] : volume.former.files()) {
        if (stopped_) return;
        emit_former(volume, number, file);
    }
}

void ApfsWalk::emit_former(Volume& volume, std::uint64_t number, const FormerFile& file) {
    const FormerName* name = file.name();
    Record record;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    if (file.inode) {
        if (!stores_content(*file.inode)) return;
        tell_inode(record, volume.state.oid(), number, *file.inode);
        record.version = file.xid;
        record.facts.push_back({"last transaction", std::to_string(file.xid)});
    } else {
        if (name == nullptr) return;
        record.identity = {volume.state.oid(), number, 0};
        record.is_folder = file.is_folder;
    }
    if (name != nullptr) {
        const FolderPlace place = place_of(volume, name->parent);
        record.folder = place.path;
        record.name = name->name;
        if (!place.is_known)
            record.notes.emplace_back("a folder above it is not known any more; a number stands for it");
        if (!name->parent_is_told)
            record.notes.emplace_back(
                "its folder is inferred from what stands beside its name, or was changed in the moment in which it was "
                "made or "
                "removed");
    } else {
        if (record.is_folder) return;
        record.folder = volume.folder;
        name_by_number(record, fmt::format("(inode {})", number),
                       "its name is not known any more; the number of its inode stands for it");
    }
    record.deleted = file.removed;
    record.notes.emplace_back("an older transaction tells of it");
    const std::uint64_t size = file.inode ? file.inode->size : 0;
    const ExtentsOf extents_of = [&](std::uint64_t stream) { return volume.former.extents_of(stream, size); };
    if (record.is_folder) return emit(std::move(record));
    if (file.inode && file.inode->is_new()) {
        record.trust = LayoutTrust::none;
        record.modified = record.changed = std::nullopt;
        record.notes.emplace_back(
            "what is left of its inode is of when it was made, before anything was written to it");
        return emit(std::move(record));
    }
    if (file.inode) return emit_content(std::move(record), *file.inode, file.attributes, extents_of);
    const auto extents = extents_of(number);
    for (const FileExtent& extent : extents) record.size = std::max(record.size, extent.start + extent.length);
    record.layout.lay(places_of(blocks_, extents, record.size, false));
    if (extents.empty()) record.trust = LayoutTrust::none;
    record.notes.emplace_back("its inode is not there any more: what is listed is whole blocks");
    emit(std::move(record));
}

}  // namespace dredger::apfs

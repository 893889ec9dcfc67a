#include "filesystems/xfs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/cached.h"
#include "media/content.h"
#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr std::uint64_t kDirectoryData = std::uint64_t{32} << 30;  // bytes of a directory that hold entries
constexpr std::uint64_t kLargestDirectory = std::uint64_t{2} << 30;

FileType type_of(const Inode& inode) {
    return inode.is_folder()    ? FileType::folder
           : inode.is_file()    ? FileType::file
           : inode.is_symlink() ? FileType::symlink
                                : FileType::unknown;
}

}  // namespace

XfsWalk::XfsWalk(MediumPtr volume, const Geometry& geometry, const Groups& groups, const WalkOptions& options,
                 RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(std::make_shared<Cached>(std::move(volume))),
      geometry_(geometry),
      groups_(groups) {}

void XfsWalk::run() {
    walk_live();
    if (!options_.live_only && !stopped_) walk_deleted();
    warn_of(damaged_folders_, "folders are damaged: what they listed in the lost parts is missing");
    warn_of(damaged_inodes_, "live names lead to no inode: their content is missing");
}

std::optional<Inode> XfsWalk::inode_at(std::uint64_t number) const {
    const auto offset = geometry_.offset_of_inode(number);
    const auto bytes = offset ? bytes_at(*volume_, *offset, geometry_.inode_size) : std::nullopt;
    return bytes ? parse_inode(ByteView(*bytes, *offset), number, geometry_) : std::nullopt;
}

std::string XfsWalk::path_of(std::uint64_t folder) const {
    const auto step_of = [this](std::uint64_t inode) -> std::optional<FolderStep<std::uint64_t>> {
        const auto found = folders_.find(inode);
        if (found == folders_.end()) return std::nullopt;
        return FolderStep<std::uint64_t>{found->second.parent, found->second.name, found->second.name.empty()};
    };
    return folder_place(folder, step_of, [](std::uint64_t) { return std::string(); }).path;
}

void XfsWalk::walk_live() {
    folders_[geometry_.root_inode] = {geometry_.root_inode, ""};
    std::vector<std::uint64_t> open = {geometry_.root_inode};
    for (std::size_t next = 0; next < open.size() && !stopped_; ++next) {
        const auto inode = inode_at(open[next]);
        if (!inode || !inode->is_folder()) {
            ++damaged_folders_;
            continue;
        }
        const std::string path = path_of(open[next]);
        const ExtentList extents = extents_of(*inode, geometry_, *volume_);
        const std::vector<Directory> parts = directory_of(*inode, extents);
        bool whole = extents.whole;
        for (const Directory& part : parts) {
            whole = whole && part.whole;
            for (const DirectoryEntry& entry : part.entries) {
                if (stopped_) return;
                if (!entry.live) {
                    if (!options_.live_only) sightings_.push_back({inode->number, entry, 0});
                    continue;
                }
                const bool is_new = !folders_.contains(entry.inode);
                take_entry(inode->number, path, entry);
                if (is_new && folders_.contains(entry.inode)) open.push_back(entry.inode);
            }
        }
        if (!whole) ++damaged_folders_;
    }
}

// What a directory lists, block by block.
std::vector<Directory> XfsWalk::directory_of(const Inode& inode, const ExtentList& extents) {
    std::vector<Directory> parts;
    if (inode.format == ForkFormat::local) {
        parts.push_back(read_short_directory(ByteView(inode.fork), inode.size, geometry_));
        return parts;
    }
    const std::uint64_t size = geometry_.directory_block_size;
    std::uint64_t left = kLargestDirectory / size;
    for (const Extent& piece : layout_of(extents.extents, kDirectoryData, geometry_)) {
        if (!piece.is_stored()) continue;
        for (std::uint64_t at = piece.offset; at + size <= piece.end() && left > 0; at += size, --left) {
            const auto bytes = bytes_at(*volume_, at, static_cast<std::size_t>(size));
            if (!bytes || !is_directory_block(ByteView(*bytes), geometry_)) {
                parts.push_back({{}, 0, 0, false});
                continue;
            }
            owners_.emplace_back(at, inode.number);
            parts.push_back(read_directory_block(ByteView(*bytes, at), geometry_));
        }
    }
    return parts;
}

void XfsWalk::take_entry(std::uint64_t folder, const std::string& path, const DirectoryEntry& entry) {
    const auto inode = inode_at(entry.inode);
    if (!inode || inode->is_free()) {
        ++damaged_inodes_;
        return;
    }
    // A folder has one name; a second one would lead in a circle.
    if (!inode->stores_content() || (inode->is_folder() && folders_.contains(entry.inode))) return;
    Record record = record_of(*inode);
    record.folder = path;
    record.name = entry.name;
    if (record.name.empty()) return;
    const ExtentList extents = extents_of(*inode, geometry_, *volume_);
    if (inode->is_folder()) {
        folders_[entry.inode] = {folder, record.name};
        record.keeping = layout_of(extents.extents, UINT64_MAX, geometry_);
        std::erase_if(record.keeping, [](const Extent& e) { return !e.is_stored(); });
    } else {
        record.size = inode->size;
        record.keeping = extents.mappers;
        if (inode->format == ForkFormat::local) {
            record.layout.extents = {{inode->fork_at, std::min<std::uint64_t>(inode->size, inode->fork.size())}};
            record.layout.within_records = true;
        } else {
            record.layout.lay(layout_of(extents.extents, inode->size, geometry_));
        }
        if (!extents.whole) {
            record.trust = LayoutTrust::damaged;
            record.notes.emplace_back("a part of the list of its extents is lost");
        }
    }
    emit(std::move(record));
}

Record XfsWalk::record_of(const Inode& inode) const {
    Record record;
    record.identity = {0, inode.number, inode.generation};
    record.is_folder = inode.is_folder();
    record.created = inode.created;
    record.modified = inode.modified;
    record.changed = inode.changed;
    record.accessed = inode.accessed;
    tell_inode_facts(record, inode.number, inode.mode, inode.uid, inode.gid);
    return record;
}

void XfsWalk::walk_deleted() {
    Lives lives(volume_, geometry_, groups_);
    if (!lives.read(options_.go_on)) {
        stopped_ = true;
        return;
    }
    if (!lives.log().is_clean)
        warnings_.emplace_back(
            "it was not unmounted cleanly: the newest changes stand in its log only, and may be missing here");
    sightings_.insert(sightings_.end(), lives.sightings().begin(), lives.sightings().end());
    for (const auto& [number, list] : lives.all())
        for (const Life& life : list) learn_from(lives, number, life);
    for (const Directory& directory : lives.given_back()) {
        if (directory.parent != 0 && !folders_.contains(directory.owner))
            former_folders_[directory.owner].parent = directory.parent;
        take_former(directory.owner, directory);
    }
    place_sightings(lives);
    // Names may lead to inodes whose chunk is gone, and these to further names.
    for (std::size_t i = 0; i < sightings_.size(); ++i) {
        const Sighting sighting = sightings_[i];
        if (!sighting.entry.inode_is_whole || lives.all().contains(sighting.entry.inode)) continue;
        lives.look_at(sighting.entry.inode);
        if (const auto found = lives.all().find(sighting.entry.inode); found != lives.all().end())
            for (const Life& life : found->second) learn_from(lives, found->first, life);
    }
    drop_live_names();
    for (const auto& [number, list] : lives.all())
        for (std::size_t i = 0; i < list.size() && !stopped_; ++i) emit_life(lives, list[i], name_of(number, i, list));
}

// What a folder that is gone listed.
void XfsWalk::learn_from(const Lives& lives, std::uint64_t number, const Life& life) {
    if (life.core_is_known && !life.is_folder()) return;
    const ExtentList extents = lives.extents_of_life(life);
    std::vector<Directory> parts;
    if (!extents.extents.empty()) {
        // Without its mode, the first block shows whether it was a folder.
        const auto first = geometry_.offset_of(extents.extents.front().block);
        const auto bytes =
            first ? bytes_at(*volume_, *first, static_cast<std::size_t>(geometry_.directory_block_size)) : std::nullopt;
        if (!bytes || !is_directory_block(ByteView(*bytes), geometry_)) return;
        Inode folder = life.inode;
        folder.format = ForkFormat::extents;
        parts = directory_of(folder, extents);
    } else if (life.core_is_known ? life.inode.format == ForkFormat::local || life.fork_is_left : true) {
        const ByteView fork(life.inode.fork);
        Directory directory = read_short_directory(fork, fork.size(), geometry_);
        const bool is_likely = life.core_is_known || (directory.whole && folders_.contains(directory.parent));
        if (!is_likely) return;
        parts.push_back(std::move(directory));
    }
    bool is_own = false;
    for (const Directory& part : parts) {
        if (part.owner != 0 && part.owner != number) continue;
        is_own = true;
        Folder& folder = former_folders_[number];
        if (part.parent != 0) folder.parent = part.parent;
        take_former(number, part);
    }
    if (is_own) former_folders_[number];
}

// What a block lists that the folder does not have any more.
void XfsWalk::take_former(std::uint64_t folder, const Directory& part) {
    for (DirectoryEntry entry : part.entries) {
        entry.live = false;
        sightings_.push_back({folder, std::move(entry), 0});
    }
}

// The log has parts of directory blocks without the start that names their folder: the block's place does.
void XfsWalk::place_sightings(const Lives& lives) {
    std::sort(owners_.begin(), owners_.end());
    for (const Lives::Unplaced& unplaced : lives.unplaced()) {
        if (const std::uint64_t owner = lives.owner_at(unplaced.offset, unplaced.sighting.sequence); owner != 0) {
            sightings_.push_back(unplaced.sighting);
            sightings_.back().folder = owner;
            continue;
        }
        const auto owner =
            std::lower_bound(owners_.begin(), owners_.end(), std::pair(unplaced.offset, std::uint64_t{0}));
        if (owner == owners_.end() || owner->first != unplaced.offset) continue;
        sightings_.push_back(unplaced.sighting);
        sightings_.back().folder = owner->second;
    }
}

// What a live folder lists now, and under this inode, is not gone.
void XfsWalk::drop_live_names() {
    std::stable_sort(sightings_.begin(), sightings_.end(), [](const Sighting& a, const Sighting& b) {
        return a.folder != b.folder ? a.folder < b.folder : a.sequence > b.sequence;
    });
    std::uint64_t folder = 0;
    std::map<std::string, std::uint64_t> live;
    for (std::size_t i = 0; i < sightings_.size(); ++i) {
        const Sighting& sighting = sightings_[i];
        if (folder != sighting.folder) {
            folder = sighting.folder;
            live.clear();
            const auto inode = folders_.contains(folder) ? inode_at(folder) : std::nullopt;
            if (inode)
                for (const Directory& part : directory_of(*inode, extents_of(*inode, geometry_, *volume_)))
                    for (const DirectoryEntry& entry : part.entries)
                        if (entry.live) live[entry.name] = entry.inode;
        }
        const auto there = live.find(sighting.entry.name);
        if (there == live.end() || there->second != sighting.entry.inode)
            by_inode_[static_cast<std::uint32_t>(sighting.entry.inode)].push_back(i);
    }
}

// The last name that an inode's life was seen under. Where several lives followed each other, what the log tells of a
// name's time counts.
const Sighting* XfsWalk::name_of(std::uint64_t number, std::size_t index, const std::vector<Life>& list) const {
    const auto seen = by_inode_.find(static_cast<std::uint32_t>(number));
    if (seen == by_inode_.end()) return nullptr;
    const Life& life = list[index];
    const bool is_last = index + 1 == list.size();
    const Sighting* best = nullptr;
    for (const std::size_t i : seen->second) {
        const Sighting& sighting = sightings_[i];
        if (sighting.entry.inode_is_whole && sighting.entry.inode != number) continue;
        const bool fits = !life.core_is_known || sighting.entry.type == FileType::unknown ||
                          sighting.entry.type == type_of(life.inode);
        if (!fits) continue;
        if (!is_last && (sighting.sequence == 0 || sighting.sequence > list[index].sequence)) continue;
        if (index > 0 && sighting.sequence != 0 && sighting.sequence <= list[index - 1].sequence) continue;
        // One whose folder is known is worth more; of these the one seen last.
        const auto worth = [&](const Sighting& s) { return std::pair(place_of(s.folder).is_known, s.sequence); };
        if (best == nullptr || worth(sighting) > worth(*best)) best = &sighting;
    }
    return best;
}

FolderPlace XfsWalk::place_of(std::uint64_t folder) const {
    const auto placeholder = [](std::uint64_t inode) { return fmt::format("(folder {})", inode); };
    // A folder whose parent alone is known has its number for a name.
    bool is_known = true;
    const auto step_of = [&](std::uint64_t inode) -> std::optional<FolderStep<std::uint64_t>> {
        if (folders_.contains(inode)) return FolderStep<std::uint64_t>{0, path_of(inode), true};
        // Its own name, where one was seen.
        const auto seen = by_inode_.find(static_cast<std::uint32_t>(inode));
        if (seen != by_inode_.end())
            for (const std::size_t i : seen->second) {
                const Sighting& sighting = sightings_[i];
                const bool is_it = (!sighting.entry.inode_is_whole || sighting.entry.inode == inode) &&
                                   (sighting.entry.type == FileType::folder || !geometry_.has_types);
                if (is_it && sighting.folder != inode)
                    return FolderStep<std::uint64_t>{sighting.folder, sighting.entry.name, false};
            }
        const auto former = former_folders_.find(inode);
        if (former == former_folders_.end() || former->second.parent == 0 || former->second.parent == inode)
            return std::nullopt;
        is_known = false;
        return FolderStep<std::uint64_t>{former->second.parent, placeholder(inode), false};
    };
    FolderPlace place = folder_place(folder, step_of, placeholder);
    place.is_known = place.is_known && is_known;
    return place;
}

void XfsWalk::tell_content(Record& record, const Lives& lives, const Life& life) {
    const Inode& inode = life.inode;
    if (inode.format == ForkFormat::local && life.core_is_known && !life.fork_is_left) {
        record.size = inode.size;
        if (inode.fork_at != 0) {
            record.layout.extents = {{inode.fork_at, std::min<std::uint64_t>(inode.size, inode.fork.size())}};
            record.layout.within_records = true;
        } else if (inode.size > 0) {
            record.trust = LayoutTrust::none;
        }
        return;
    }
    const ExtentList extents = lives.extents_of_life(life);
    std::uint64_t told = 0;
    for (const FileExtent& extent : extents.extents)
        if (!extent.lost) told = std::max(told, (extent.start + extent.count) * geometry_.block_size);
    record.size = life.size_is_known ? inode.size : told;
    record.keeping = extents.mappers;
    if (life.size_is_known && extents.extents.empty() && inode.size > 0) {
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("nothing is left of the list of its extents");
        return;
    }
    record.layout.lay(layout_of(extents.extents, record.size, geometry_));
    if (!extents.whole) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back("a part of the list of its extents is lost");
    } else if (life.fork_is_left) {
        record.notes.emplace_back("its inode was cleared; the list of its extents was left in it");
    }
    if (life.size_is_known) return;
    // Its last block is filled up with zeros.
    const Content content(volume_, record.layout);
    const auto end = options_.content_end ? options_.content_end(record.name, content) : std::nullopt;
    record.size = end.value_or(record.size);
    record.layout.lay(layout_of(extents.extents, record.size, geometry_));
    record.notes.emplace_back(end ? "its size was cleared; its content tells where it ends"
                                  : "its size was cleared: what is listed is whole blocks");
    if (!end) record.trust = LayoutTrust::assumed;
}

void XfsWalk::emit_life(const Lives& lives, const Life& life, const Sighting* name) {
    const Inode& inode = life.inode;
    if (life.core_is_known && !inode.stores_content()) return;
    const bool is_folder = life.core_is_known ? inode.is_folder() : former_folders_.contains(inode.number);
    // A folder without a name is one above its files, no more; nothing and no name tell nothing.
    if (name == nullptr && is_folder) return;
    Record record;
    if (life.core_is_known) {
        record = record_of(inode);
    } else {
        record.identity = {0, inode.number, inode.generation};
        record.is_folder = is_folder;
        // Freeing clears the mode and the size, and leaves the times.
        record.created = inode.created;
        record.modified = inode.modified;
        record.accessed = inode.accessed;
    }
    if (name != nullptr) {
        const FolderPlace place = place_of(name->folder);
        record.folder = place.path;
        record.name = name->entry.name;
        if (!place.is_known)
            record.notes.emplace_back("a folder above it is not known any more; the number of its inode stands for it");
        if (name->entry.type == FileType::folder) record.is_folder = true;
    } else {
        name_by_number(record, fmt::format("(inode {})", inode.number),
                       "its name is not known any more; the number of its inode stands for it");
    }
    record.state = State::deleted;
    record.origin = life.from_log || life.fork_is_left || !life.core_is_known ? Origin::remnant : Origin::record;
    record.deleted = life.deleted;
    if (life.from_log && !record.is_folder)
        record.notes.emplace_back("its inode was cleared or used again; as it was before stands in the log");
    if (!record.is_folder) tell_content(record, lives, life);
    if (name == nullptr && record.size == 0) return;
    emit(std::move(record));
}

}  // namespace dredger::xfs

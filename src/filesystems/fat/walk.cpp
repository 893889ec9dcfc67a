#include "filesystems/fat/walk.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <tuple>

#include "filesystems/fat/placing.h"
#include "media/cached.h"

namespace dredger::fat {

FatWalk::FatWalk(const MediumPtr& volume, const Geometry& geometry, const Table& table, const WalkOptions& options,
                 RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(volume),
      geometry_(geometry),
      table_(table),
      chains_(std::make_shared<Cached>(volume), geometry, table),
      layouts_(table, geometry),
      deleted_(volume_, geometry, table, options.code_page, chains_, layouts_, folders_) {}

void FatWalk::run() {
    walk_live();
    if (stopped_ || options_.live_only) return;
    deleted_.walk(live_heads_);
    Placing(volume_, geometry_, table_, options_, chains_, layouts_, folders_).place(deleted_.files());
    emit_deleted();
    if (chains_.unreadable() > 0)
        warnings_.push_back(
            fmt::format("{} bytes of folders can't be read: what they list is missing", chains_.unreadable()));
    warn_of(broken_chains_, "live files or folders have a damaged cluster chain");
    if (deleted_.earlier_names() > 0)
        warnings_.push_back(fmt::format("{} deleted entries are earlier names of what is still there, and are left out",
                                        deleted_.earlier_names()));
}

void FatWalk::run_former() {
    is_former_ = true;
    folders_.push_back({"", geometry_.width == Width::fat32 ? geometry_.root_cluster : 0});
    live_heads_.seal();
    read_former_root();
    deleted_.walk(live_heads_);
    Placing(volume_, geometry_, table_, options_, chains_, layouts_, folders_).place(deleted_.files());
    emit_deleted();
}

// As much of it as still stands: its first cluster, or all of a root of fixed size.
void FatWalk::read_former_root() {
    const bool is_fixed = geometry_.width != Width::fat32;
    if (!is_fixed && table_.taken(geometry_.root_cluster)) return;
    const std::vector<Slot> slots = is_fixed ? chains_.fixed_root() : chains_.slots_of(geometry_.root_cluster);
    if (!continues_directory(slots)) return;
    if (!is_fixed) return deleted_.take_former_root(slots);
    std::vector<DirectoryItem> items = read_items(slots);
    std::vector<ShortName> neighbours;
    for (const DirectoryItem& item : items)
        if (item.first_known) neighbours.push_back(item.short_name);
    for (DirectoryItem& item : items)
        if ((item.entry.DIR_Attr & ATTR_VOLUME_ID) == 0) deleted_.take(0, std::move(item), neighbours);
}

Record FatWalk::record_of(const DirectoryItem& item, std::size_t folder, std::string name) const {
    Record record;
    record.identity.number = item.offset;
    record.folder = folders_[folder].path;
    record.name = std::move(name);
    record.is_folder = item.entry.is_folder();
    record.size = record.is_folder ? 0 : item.entry.DIR_FileSize.value();
    record.created = created(item.entry);
    record.modified = modified(item.entry);
    record.accessed = fat_time(item.entry.DIR_LstAccDate);
    record.attributes = attribute_words(item.entry.DIR_Attr & (ATTR_READ_ONLY | ATTR_HIDDEN | ATTR_SYSTEM));
    return record;
}

void FatWalk::walk_live() {
    folders_.push_back({"", geometry_.width == Width::fat32 ? geometry_.root_cluster : 0});
    for (std::size_t folder = 0; folder < folders_.size() && !stopped_; ++folder)
        read_live(folder, live_slots(folders_[folder]));
    live_heads_.seal();
}

std::vector<Slot> FatWalk::live_slots(const Folder& folder) {
    const bool is_root = &folder == &folders_.front();
    if (is_root && geometry_.width != Width::fat32) return chains_.fixed_root();
    const auto chain = chains_.follow(folder.first_cluster, clusters_for(kMaxEntries * kEntrySize));
    if (!chain.whole) ++broken_chains_;
    std::vector<Slot> all;
    for (const Run& run : chain.runs) {
        for (std::uint32_t i = 0; i < run.count; ++i) {
            const auto slots = chains_.slots_of(run.first + i);
            if (all.empty() && !is_root && !dot_entries(slots) && !continues_directory(slots)) {
                warnings_.push_back(fmt::format("the folder {} holds no entries that make sense", folder.path));
                return {};
            }
            note_folder_cluster({run.first + i, 1}, slots);
            all.insert(all.end(), slots.begin(), slots.end());
        }
    }
    return all;
}

// A folder takes further clusters as it grows: each dates from the earliest entry in it.
void FatWalk::note_folder_cluster(const Run& cluster, std::span<const Slot> slots) {
    layouts_.add_live({cluster}, earliest(slots));
}

void FatWalk::read_live(std::size_t folder, std::span<const Slot> slots) {
    std::vector<DirectoryItem> items = read_items(slots);
    std::vector<ShortName> neighbours;
    for (const DirectoryItem& item : items)
        if (item.first_known) neighbours.push_back(item.short_name);
    for (DirectoryItem& item : items) {
        if (stopped_) return;
        if ((item.entry.DIR_Attr & ATTR_VOLUME_ID) != 0) continue;
        if (item.deleted)
            deleted_.take(folder, std::move(item), neighbours);
        else
            take_live(folder, item);
    }
}

void FatWalk::take_live(std::size_t folder, const DirectoryItem& item) {
    std::string name = item.long_state == LongName::whole
                           ? utf16_to_utf8(item.long_name)
                           : shown(item.short_name, item.entry.DIR_NTRes, options_.code_page);
    Record record = record_of(item, folder, std::move(name));
    const std::uint32_t first = item.entry.first_cluster();
    if (record.is_folder) {
        live_heads_.add(first, 0, 0);
        folders_.push_back({record.path(), first});
    } else if (record.size > 0) {
        const auto chain = chains_.follow(first, clusters_for(record.size));
        live_heads_.add(first, item.entry.DIR_FileSize, write_stamp(item.entry));
        layouts_.add_live(chain.runs, written(item.entry));
        record.layout.lay(chains_.extents(chain.runs, record.size));
        if (!chain.whole) {
            ++broken_chains_;
            record.notes.emplace_back("its cluster chain is damaged");
        }
    }
    emit(std::move(record));
}

void FatWalk::emit_deleted() {
    std::vector<Deleted>& files = deleted_.files();
    // A file that was renamed and then deleted left two entries: the better name stands for both, and of two in one
    // folder the one behind, which was written later.
    std::map<std::tuple<std::uint32_t, std::uint32_t, std::uint32_t>, std::size_t> by_content;
    for (std::size_t i = 0; i < files.size(); ++i) {
        const DirectoryEntry& e = files[i].item.entry;
        if (e.is_folder() || e.DIR_FileSize == 0) continue;
        const auto [same, fresh] = by_content.try_emplace({files[i].first_cluster, e.DIR_FileSize, write_stamp(e)}, i);
        if (fresh) continue;
        const Deleted& other = files[same->second];
        const bool is_later = files[i].folder == other.folder && files[i].item.offset > other.item.offset;
        if (files[i].name_is_whole != other.name_is_whole ? files[i].name_is_whole : is_later) same->second = i;
    }
    for (std::size_t i = 0; i < files.size() && !stopped_; ++i) {
        Deleted& file = files[i];
        const DirectoryEntry& e = file.item.entry;
        const auto same = by_content.find({file.first_cluster, e.DIR_FileSize, write_stamp(e)});
        if (!e.is_folder() && same != by_content.end() && same->second != i) continue;
        Record record = record_of(file.item, file.folder, std::move(file.name));
        const bool lost = folders_[file.folder].lost;
        const bool formatted = folders_[file.folder].formatted && !is_former_;
        // Where it was not deleted itself, it went with what led to it.
        record.state = (is_former_ || lost || formatted) && !file.item.deleted ? State::lost : State::deleted;
        record.origin = file.item.behind_end || lost || is_former_ || formatted ? Origin::remnant : Origin::record;
        if (formatted) file.notes.emplace_back("the volume was formatted since: its folder was left over");
        if (is_former_)
            file.notes.emplace_back("the volume was formatted since; where it lies follows from where its folders lay");
        if (lost)
            file.notes.emplace_back(
                "the name of a folder above it is overwritten; the number of a cluster stands for it");
        record.layout.lay(chains_.extents(file.runs, record.size));
        record.trust = file.trust;
        record.name_is_whole = file.name_is_whole;
        record.notes = std::move(file.notes);
        emit(std::move(record));
    }
}

}  // namespace dredger::fat

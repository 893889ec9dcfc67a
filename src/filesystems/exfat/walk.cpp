#include "filesystems/exfat/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/cached.h"

namespace dredger::exfat {
namespace {

constexpr std::uint64_t kMaxProbes = 131'072;                 // free clusters looked at for lost folders
constexpr std::uint64_t kMaxProbed = std::uint64_t{1} << 30;  // bytes of the volume that they may span
constexpr std::uint64_t kMaxRounds = 8;                       // how often all clusters together may be followed
constexpr std::size_t kMaxSlots = 2'000'000;                  // in one folder, some 700,000 files
constexpr std::size_t kProbeBytes = kLongestSet * kEntrySize;

}  // namespace

ExfatWalk::ExfatWalk(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space, const Upcase& upcase,
                     const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(volume),
      geometry_(geometry),
      space_(space),
      upcase_(upcase),
      chains_(std::make_shared<Cached>(volume), geometry),
      links_left_(kMaxRounds * geometry.cluster_count) {}

void ExfatWalk::run() {
    folders_.push_back({"", chains_.follow(geometry_.root_cluster, chains_.clusters_for(kLargestDirectory)).runs});
    for (std::size_t folder = 0; folder < folders_.size() && !stopped_; ++folder) read_folder(folder);
    if (!options_.live_only && !stopped_) {
        follow_deleted();
        read_lost_folders();
        emit_deleted();
    }
    warn_of(unreadable_, "bytes of folders can't be read: what they list is missing");
    warn_of(damaged_sets_, "live entries have a wrong checksum: what they say may be wrong");
    warn_of(earlier_names_, "deleted entries are earlier names of what is still there, and are left out");
}

// A cluster of a deleted folder that is in use again holds something else.
std::vector<Slot> ExfatWalk::slots_of(const Folder& folder) {
    std::vector<Slot> all;
    for (const Run& run : folder.runs) {
        for (std::uint32_t i = 0; i < run.count; ++i) {
            const std::uint32_t cluster = run.first + i;
            if (folder.deleted && taken(cluster)) continue;
            if (!folder_clusters_.insert(cluster).second) return all;
            std::vector<std::byte> bytes(static_cast<std::size_t>(geometry_.cluster_size));
            std::vector<Extent> bad;
            if (!volume_->read(geometry_.offset_of(cluster), bytes, &bad)) return all;
            for (const Extent& lost : bad) unreadable_ += lost.length;
            const auto slots = slots_in(ByteView(bytes, geometry_.offset_of(cluster)));
            all.insert(all.end(), slots.begin(), slots.end());
            if (all.size() < kMaxSlots) continue;
            warnings_.push_back(
                fmt::format("the folder {} has more than {} entries; the rest is left out", folder.path, kMaxSlots));
            return all;
        }
    }
    return all;
}

void ExfatWalk::read_folder(std::size_t folder) {
    const bool deleted = folders_[folder].deleted;
    for (EntrySet& set : read_sets(slots_of(folders_[folder]), upcase_)) {
        if (stopped_) return;
        if (deleted) {
            const bool is_marked = std::exchange(set.deleted, true);
            if (set.is_proven()) take_deleted(folder, std::move(set), is_marked);
        } else if (!set.deleted) {
            take_live(folder, set);
        } else if (!options_.live_only) {
            take_deleted(folder, std::move(set));
        }
    }
}

Chain ExfatWalk::chain_of(std::uint32_t first, std::uint64_t count) {
    Chain chain = chains_.follow(first, std::min(count, links_left_));
    links_left_ -= chain.count;
    return chain;
}

void ExfatWalk::take_live(std::size_t folder, const EntrySet& set) {
    Record record = record_of(set, folders_[folder]);
    const std::uint64_t count = chains_.clusters_for(set.length);
    std::vector<Run> runs;
    if (set.length > 0) {
        const Chain chain = set.no_fat_chain ? Chain() : chain_of(set.first_cluster, count);
        runs = set.no_fat_chain ? chains_.straight(set.first_cluster, count) : chain.runs;
        live_.insert({set.first_cluster, set.length});
    }
    if (!set.checksum_agrees) {
        ++damaged_sets_;
        record.notes.emplace_back("its directory entries have a wrong checksum");
    }
    if (set.is_folder()) {
        record.keeping = chains_.extents(runs, set.length, set.length);
        folders_.push_back({record.path(), std::move(runs)});
    } else {
        record.layout.lay(chains_.extents(runs, set.length, set.valid_length));
    }
    emit(std::move(record));
}

void ExfatWalk::take_deleted(std::size_t folder, EntrySet&& set, bool is_marked) {
    if (!geometry_.holds(set.first_cluster) && set.length > 0 && !set.is_proven()) return;
    deleted_.push_back({std::move(set), folder, {}, LayoutTrust::exact, {}, is_marked});
}

// A file or folder that was moved or renamed left its old entries behind.
bool ExfatWalk::is_earlier_name(const EntrySet& set) const {
    return set.length > 0 && live_.contains({set.first_cluster, set.length});
}

// Where the content lay. The FAT still tells how a fragmented file went on, until its entries are used again; from the
// place where it does not, the file is taken to go on in free clusters.
void ExfatWalk::place(Deleted& file) {
    EntrySet& set = file.set;
    if (!set.has_file) {
        file.notes.emplace_back("the first of its directory entries is overwritten: its times and attributes are lost");
        if (set.length > 0 && set.length % geometry_.cluster_size == 0 && set.valid_length == set.length &&
            geometry_.holds(set.first_cluster) && !taken(set.first_cluster) && begins_folder(set.first_cluster))
            set.attributes |= kDirectory;
    } else if (!set.checksum_agrees) {
        file.notes.emplace_back(set.name_is_whole ? "a part of its directory entries is damaged"
                                                  : "the end of its name is overwritten");
        if (set.name_is_whole && !set.name_agrees) file.trust = LayoutTrust::damaged;
    }
    if (set.length == 0) return;
    if (!geometry_.holds(set.first_cluster)) {
        file.trust = LayoutTrust::none;
        return;
    }
    const std::uint64_t count = chains_.clusters_for(set.length);
    if (set.no_fat_chain) {
        file.runs = chains_.straight(set.first_cluster, count);
        return;
    }
    Chain chain = chain_of(set.first_cluster, count);
    if (chain.runs.empty()) chain = {{{set.first_cluster, 1}}, 1, false};
    if (chain.count < count || !chain.ended) {
        if (file.trust == LayoutTrust::exact) file.trust = LayoutTrust::assumed;
        std::uint32_t next = chain.runs.back().first + chain.runs.back().count;
        for (; chain.count < count && geometry_.holds(next) && links_left_ > 0; ++next) {
            --links_left_;
            if (taken(next)) continue;
            add_cluster(chain.runs, next);
            ++chain.count;
        }
    }
    file.runs = std::move(chain.runs);
}

void ExfatWalk::walk_into(std::size_t deleted) {
    const Deleted& file = deleted_[deleted];
    const Folder& above = folders_[file.folder];
    folders_.push_back({record_of(file.set, above).path(), file.runs, true, above.lost});
    read_folder(folders_.size() - 1);
}

// The sets at the start of a cluster; none where it can't be read.
std::vector<EntrySet> ExfatWalk::sets_in(std::uint32_t cluster, std::uint64_t bytes) const {
    const std::uint64_t offset = geometry_.offset_of(cluster);
    const auto part = volume_->bytes(offset, static_cast<std::size_t>(std::min(bytes, geometry_.cluster_size)));
    return part ? read_sets(slots_in(ByteView(*part, offset)), upcase_) : std::vector<EntrySet>();
}

// A folder's clusters begin with an entry set; its checksum proves it.
bool ExfatWalk::begins_folder(std::uint32_t cluster) const {
    const auto sets = sets_in(cluster, kProbeBytes);
    return !sets.empty() && sets.front().offset == geometry_.offset_of(cluster) && sets.front().has_file &&
           sets.front().is_proven();
}

// What is found in a deleted folder may be a deleted folder.
void ExfatWalk::follow_deleted() {
    for (; next_deleted_ < deleted_.size() && !stopped_; ++next_deleted_) {
        if (is_earlier_name(deleted_[next_deleted_].set)) continue;
        place(deleted_[next_deleted_]);
        if (deleted_[next_deleted_].set.is_folder()) walk_into(next_deleted_);
    }
}

// The entries that named a folder may be overwritten while its own clusters still stand. Those that another one of them
// lists are named by that.
void ExfatWalk::read_lost_folders() {
    const std::vector<std::uint32_t> lost = find_lost_folders();
    std::set<std::uint32_t> listed;
    for (const std::uint32_t cluster : lost)
        for (const EntrySet& set : sets_in(cluster, geometry_.cluster_size))
            if (set.is_folder() && set.is_proven()) listed.insert(set.first_cluster);
    for (const bool named : {false, true}) {
        for (const std::uint32_t cluster : lost) {
            if (listed.contains(cluster) != named || folder_clusters_.contains(cluster) || stopped_) continue;
            folders_.push_back({fmt::format("(folder {})", cluster), {{cluster, 1}}, true, true});
            read_folder(folders_.size() - 1);
            follow_deleted();
        }
    }
}

std::vector<std::uint32_t> ExfatWalk::find_lost_folders() const {
    std::vector<std::uint32_t> lost;
    std::set<std::uint32_t> of_files;
    for (const Deleted& file : deleted_)
        if (!file.set.is_folder() && !file.runs.empty()) of_files.insert(file.runs.front().first);
    std::uint64_t probes = std::min(kMaxProbes, kMaxProbed / geometry_.cluster_size);
    for (std::uint32_t cluster = 2; geometry_.holds(cluster) && probes > 0; ++cluster) {
        if (taken(cluster) || folder_clusters_.contains(cluster) || of_files.contains(cluster)) continue;
        --probes;
        if (begins_folder(cluster)) lost.push_back(cluster);
    }
    return lost;
}

Record ExfatWalk::record_of(const EntrySet& set, const Folder& folder) const {
    Record record;
    record.identity.number = set.offset;
    record.folder = folder.path;
    record.name = utf16_to_utf8(set.name);
    record.name_is_whole = set.name_is_whole;
    record.is_folder = set.is_folder();
    record.size = record.is_folder ? 0 : set.length;
    record.created = set.created;
    record.modified = set.modified;
    record.accessed = set.accessed;
    record.attributes = attribute_words(set.attributes & (kReadOnly | kHidden | kSystem));
    return record;
}

void ExfatWalk::emit_deleted() {
    // A file that was renamed and then deleted left two entry sets: the last whole name stands for both.
    std::map<Content, std::size_t> by_content;
    for (std::size_t i = 0; i < deleted_.size(); ++i) {
        const EntrySet& set = deleted_[i].set;
        if (set.is_folder() || set.length == 0) continue;
        const auto [same, fresh] = by_content.try_emplace({set.first_cluster, set.length}, i);
        if (!fresh && (set.is_proven() || !deleted_[same->second].set.is_proven())) same->second = i;
    }
    for (std::size_t i = 0; i < deleted_.size() && !stopped_; ++i) {
        Deleted& file = deleted_[i];
        if (is_earlier_name(file.set)) {
            ++earlier_names_;
            continue;
        }
        const auto same = by_content.find({file.set.first_cluster, file.set.length});
        if (!file.set.is_folder() && same != by_content.end() && same->second != i) continue;
        const Folder& folder = folders_[file.folder];
        Record record = record_of(file.set, folder);
        // Where it was not deleted itself, it went with what led to it.
        record.state = folder.lost && !file.is_marked ? State::lost : State::deleted;
        record.origin = file.set.behind_end || folder.lost ? Origin::remnant : Origin::record;
        if (folder.lost)
            file.notes.emplace_back(
                "the name of a folder above it is overwritten; the number of a cluster stands for it");
        if (record.is_folder)
            record.keeping = chains_.extents(file.runs, file.set.length, file.set.length);
        else
            record.layout.lay(chains_.extents(file.runs, file.set.length, file.set.valid_length));
        record.trust = file.trust;
        record.notes = std::move(file.notes);
        emit(std::move(record));
    }
}

}  // namespace dredger::exfat

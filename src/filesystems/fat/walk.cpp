#include "filesystems/fat/walk.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>
#include <map>
#include <numeric>
#include <tuple>

#include "media/cached.h"

namespace dredger::fat {
namespace {

constexpr std::size_t kHeadBytes = 512;
constexpr std::uint32_t kFolderReach = 1024;    // ends of files behind which the next cluster of a folder is looked for
constexpr std::uint64_t kMostProbes = 1 << 20;  // in one volume
constexpr std::uint64_t kMostSearched = 1 << 17;  // free clusters looked at for folders that nothing leads to
constexpr std::string_view kLongExtensions[] = {"docx", "xlsx", "pptx", "jpeg",  "tiff",    "mpeg",
                                                "webp", "webm", "heic", "flac",  "aiff",    "epub",
                                                "opus", "m2ts", "divx", "pages", "numbers", "sqlite"};
constexpr char kLostFirst = '_';  // stands for a first character that nothing tells

std::optional<FileTime> created(const DirectoryEntry& e) {
    return fat_time(e.DIR_CrtDate, e.DIR_CrtTime, e.DIR_CrtTimeTenth);
}
std::optional<FileTime> modified(const DirectoryEntry& e) { return fat_time(e.DIR_WrtDate, e.DIR_WrtTime); }

std::uint32_t write_stamp(const DirectoryEntry& e) { return std::uint32_t{e.DIR_WrtDate} << 16 | e.DIR_WrtTime; }

bool has_end(std::span<const Slot> slots) {
    return std::any_of(slots.begin(), slots.end(), [](const Slot& s) { return s.entry.DIR_Name[0] == kEntryEnd; });
}

// The beginning of a long name with the extension that the short one has. "…" stands for what is missing between them,
// unless the beginning reaches into the extension.
std::string completed(const std::string& beginning, const std::string& extension) {
    const auto point = beginning.rfind('.');
    if (point != std::string::npos && extension.starts_with(folded(beginning.substr(point + 1))))
        return beginning.substr(0, point + 1) + extension;
    return beginning + "…" + (extension.empty() ? "" : "." + extension);
}

// Whether `next` can stand behind `last` in one directory: the pieces of a long name and their short entry stay
// together.
bool joins(const DirectoryEntry& last, const DirectoryEntry& next) {
    if (!last.is_long_name()) {
        if (!next.is_long_name() || next.DIR_Name[0] == kEntryFree) return true;
        return (next.DIR_Name[0] & LAST_LONG_ENTRY) != 0;
    }
    const std::uint8_t sum = std::bit_cast<LongNameEntry>(last).LDIR_Chksum;
    if (next.is_long_name()) return std::bit_cast<LongNameEntry>(next).LDIR_Chksum == sum;
    const ShortName name = std::to_array(next.DIR_Name);
    return next.DIR_Name[0] == kEntryFree ? can_begin(first_byte_for(name, sum)) : checksum(name) == sum;
}

}  // namespace

Walk::Walk(const MediumPtr& volume, const Geometry& geometry, const Table& table, const WalkOptions& options,
           RecordSink& sink, std::vector<std::string>& warnings)
    : volume_(volume),
      geometry_(geometry),
      table_(table),
      options_(options),
      sink_(sink),
      warnings_(warnings),
      chains_(std::make_shared<Cached>(volume), geometry, table),
      layouts_(table, geometry),
      probes_left_(kMostProbes) {}

void Walk::run() {
    walk_live();
    walk_deleted();
    lay_out_deleted();
    emit_deleted();
    if (chains_.unreadable() > 0)
        warnings_.push_back(
            fmt::format("{} bytes of folders can't be read: what they list is missing", chains_.unreadable()));
    if (broken_chains_ > 0)
        warnings_.push_back(fmt::format("{} live files or folders have a damaged cluster chain", broken_chains_));
    if (earlier_names_ > 0)
        warnings_.push_back(fmt::format("{} deleted entries are earlier names of what is still there, and are left out",
                                        earlier_names_));
}

void Walk::emit(Record&& record) {
    if (!stopped_ && !sink_.take(std::move(record))) stopped_ = true;
}

Record Walk::record_of(const DirectoryItem& item, std::size_t folder, std::string name) const {
    Record record;
    record.id = item.offset;
    record.folder = folders_[folder].path;
    record.name = std::move(name);
    record.is_folder = item.entry.is_folder();
    record.size = record.is_folder ? 0 : item.entry.DIR_FileSize.value();
    record.created = created(item.entry);
    record.modified = modified(item.entry);
    record.accessed = fat_time(item.entry.DIR_LstAccDate);
    if ((item.entry.DIR_Attr & ATTR_READ_ONLY) != 0) record.attributes.emplace_back("read-only");
    if ((item.entry.DIR_Attr & ATTR_HIDDEN) != 0) record.attributes.emplace_back("hidden");
    if ((item.entry.DIR_Attr & ATTR_SYSTEM) != 0) record.attributes.emplace_back("system");
    return record;
}

// ---- what is there -------------------------------------------------------------------------------------------------

void Walk::walk_live() {
    folders_.push_back({"", geometry_.width == Width::fat32 ? geometry_.root_cluster : 0});
    for (std::size_t folder = 0; folder < folders_.size() && !stopped_; ++folder)
        read_live(folder, live_slots(folders_[folder]));
    std::sort(live_heads_.begin(), live_heads_.end());
}

std::vector<Slot> Walk::live_slots(const Folder& folder) {
    const bool is_root = &folder == &folders_.front();
    if (is_root && geometry_.width != Width::fat32) return chains_.fixed_root();
    const auto chain = chains_.follow(folder.first_cluster, clusters_for(kMostEntries * kEntrySize));
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
void Walk::note_folder_cluster(const Run& cluster, std::span<const Slot> slots) {
    layouts_.add_live({cluster}, earliest(slots));
}

void Walk::read_live(std::size_t folder, std::span<const Slot> slots) {
    std::vector<DirectoryItem> items = read_items(slots);
    std::vector<ShortName> neighbours;
    for (const DirectoryItem& item : items)
        if (item.first_known) neighbours.push_back(item.short_name);
    for (DirectoryItem& item : items) {
        if (stopped_) return;
        if ((item.entry.DIR_Attr & ATTR_VOLUME_ID) != 0) continue;
        if (item.deleted)
            take_deleted(folder, std::move(item), neighbours);
        else
            take_live(folder, item);
    }
}

void Walk::take_live(std::size_t folder, const DirectoryItem& item) {
    std::string name = item.long_state == LongName::whole
                           ? utf16_to_utf8(item.long_name)
                           : shown(item.short_name, item.entry.DIR_NTRes, options_.code_page);
    Record record = record_of(item, folder, std::move(name));
    const std::uint32_t first = item.entry.first_cluster();
    if (record.is_folder) {
        live_heads_.push_back({first, 0, 0});
        folders_.push_back({record.path(), first});
    } else if (record.size > 0) {
        const auto chain = chains_.follow(first, clusters_for(record.size));
        live_heads_.push_back({first, item.entry.DIR_FileSize, write_stamp(item.entry)});
        layouts_.add_live(chain.runs, written(item.entry));
        record.layout = chains_.extents(chain.runs, record.size);
        if (!chain.whole) {
            ++broken_chains_;
            record.notes.emplace_back("its cluster chain is damaged");
        }
    }
    emit(std::move(record));
}

// ---- what was deleted ----------------------------------------------------------------------------------------------

void Walk::take_deleted(std::size_t folder, DirectoryItem item, const std::vector<ShortName>& neighbours) {
    if (item.entry.DIR_FileSize > geometry_.cluster_count * geometry_.cluster_size) return;
    Deleted file;
    file.item = std::move(item);
    file.folder = folder;
    file.first_cluster = file.item.entry.first_cluster();
    ShortName short_name = file.item.short_name;
    if (!file.item.first_known) {
        file.name_is_whole = false;
        if (const auto first = first_byte_from_neighbours(short_name, neighbours)) {
            short_name[0] = *first;
            file.notes.emplace_back("the first letter of the name is inferred from the names around it");
        } else if (const auto usual = first_byte_of_device_name(short_name, file.item.entry.is_folder())) {
            short_name[0] = *usual;
            file.notes.emplace_back(
                "the first letter of the name is inferred: cameras and scanners name their files so");
        } else {
            short_name[0] = kLostFirst;
            file.notes.push_back(fmt::format("the first letter of the name is lost; {} stands for it", kLostFirst));
        }
    }
    switch (file.item.long_state) {
        case LongName::whole: file.name = utf16_to_utf8(file.item.long_name); break;
        case LongName::none:
            file.name = shown(short_name, file.item.entry.DIR_NTRes, options_.code_page);
            file.extension_is_cut =
                std::find(short_name.begin(), short_name.begin() + 8, '~') != short_name.begin() + 8;
            break;
        case LongName::cut:
            file.name_is_whole = false;
            file.extension_is_cut = true;
            file.name =
                completed(utf16_to_utf8(file.item.long_name), extension_of(shown(short_name, 0, options_.code_page)));
            file.notes.emplace_back("the end of the long name is overwritten; its extension is that of the short name");
            break;
    }
    if (file.name.empty()) return;
    deleted_.push_back(std::move(file));
}

bool Walk::is_earlier_name(const DirectoryItem& item) const {
    const DirectoryEntry& e = item.entry;
    if (e.first_cluster() == 0) return false;
    const LiveHead head =
        e.is_folder() ? LiveHead{e.first_cluster(), 0, 0} : LiveHead{e.first_cluster(), e.DIR_FileSize, write_stamp(e)};
    return std::binary_search(live_heads_.begin(), live_heads_.end(), head);
}

void Walk::walk_deleted() {
    const auto kept =
        std::remove_if(deleted_.begin(), deleted_.end(), [&](const Deleted& f) { return is_earlier_name(f.item); });
    earlier_names_ += static_cast<std::uint64_t>(deleted_.end() - kept);
    deleted_.erase(kept, deleted_.end());
    const std::size_t in_live_folders = deleted_.size();
    std::vector<Run> known;
    for (const Deleted& file : deleted_)
        if (!file.item.entry.is_folder() && geometry_.holds(file.first_cluster))
            known.push_back(
                {file.first_cluster, static_cast<std::uint32_t>(clusters_for(file.item.entry.DIR_FileSize))});
    folder_clusters_.search(*volume_, geometry_, table_, known, kMostSearched);
    for (std::size_t index = 0; index < in_live_folders; ++index)
        if (deleted_[index].item.entry.is_folder()) walk_deleted_folder(open_deleted_folder(index));
    resume_unfinished();
    walk_lost_folders();
}

// Where just one folder has to go on somewhere, what goes on with a folder is most likely its own.
void Walk::resume_unfinished() {
    while (unfinished_.size() == 1 && !folder_clusters_.continuations().empty() && !stopped_) {
        OpenFolder folder = std::move(unfinished_.front());
        unfinished_.clear();
        folder.is_only_one = true;
        const std::size_t clusters = folder_clusters_.continuations().size();
        walk_deleted_folder(std::move(folder));
        if (folder_clusters_.continuations().size() == clusters) return;
    }
}

// Folders whose own entry is overwritten, and clusters of folders whose beginning is: named by where they lie.
void Walk::walk_lost_folders() {
    // From the top: a folder below another lost one is met again in there, with its name where its entry still stands.
    const auto next_top = [&]() -> std::uint32_t {
        std::uint32_t any = 0;
        for (const auto& [cluster, parent] : folder_clusters_.beginnings()) {
            if (any == 0) any = cluster;
            if (!folder_clusters_.beginnings().contains(parent) || parent == cluster) return cluster;
        }
        return any;
    };
    for (std::uint32_t cluster = next_top(); cluster != 0 && !stopped_; cluster = next_top()) {
        const std::uint32_t parent = folder_clusters_.beginnings().at(cluster);
        const auto above = std::find_if(folders_.begin(), folders_.end(), [&](const Folder& f) {
            return f.first_cluster == parent || (parent == 0 && &f == &folders_.front());
        });
        const std::string path = above != folders_.end() ? above->path : "";
        walk_deleted_folder(
            open_folder_at(cluster, (path.empty() ? "" : path + "/") + fmt::format("(folder {})", cluster), true));
    }
    while (!folder_clusters_.continuations().empty() && !stopped_) {
        const std::uint32_t cluster = folder_clusters_.continuations().begin()->first;
        walk_deleted_folder(open_folder_at(cluster, fmt::format("(part of a folder {})", cluster), true));
    }
}

void Walk::walk_deleted_folder(std::optional<OpenFolder> top) {
    std::vector<OpenFolder> open;
    if (top) open.push_back(std::move(*top));
    while (!open.empty()) {
        OpenFolder& folder = open.back();
        if (!folder.to_open.empty()) {
            const std::size_t below = folder.to_open.back();
            folder.to_open.pop_back();
            if (auto next = open_deleted_folder(below)) open.push_back(std::move(*next));
        } else if (!extend(folder)) {
            if (!has_end(folder.slots)) unfinished_.push_back(std::move(folder));
            open.pop_back();
        }
    }
}

// Whether the folder's own first cluster still stands at `cluster`: it points to itself and to the folder above.
bool Walk::begins_folder(const Deleted& folder, std::uint32_t cluster, bool check_parent) const {
    if (!geometry_.holds(cluster) || table_.taken(cluster)) return false;
    const auto dots = dot_entries(chains_.slots_of(cluster));
    if (!dots || dots->self != cluster) return false;
    if (!check_parent) return true;
    const std::uint32_t parent = folders_[folder.folder].first_cluster;
    return dots->parent == parent || (dots->parent == 0 && folder.folder == 0);
}

std::optional<Walk::OpenFolder> Walk::open_deleted_folder(std::size_t index) {
    Deleted& folder = deleted_[index];
    std::uint32_t first = folder.first_cluster;
    if (!begins_folder(folder, first, true) && geometry_.width == Width::fat32 && first < 0x10000) {
        for (std::uint32_t high = 1; high <= geometry_.last_cluster() >> 16; ++high) {
            if (!begins_folder(folder, high << 16 | first, true)) continue;
            first |= high << 16;
            folder.notes.emplace_back(
                "the high half of its first cluster was cleared; the folder was found by its own entries");
            break;
        }
    }
    folder.first_cluster = first;
    if (!begins_folder(folder, first, true) || layouts_.is_deleted_folder(first)) {
        folder.notes.emplace_back("its list of files is overwritten");
        return std::nullopt;
    }
    folder.trust = LayoutTrust::exact;
    const Folder& above = folders_[folder.folder];
    return open_folder_at(first, above.path.empty() ? folder.name : above.path + "/" + folder.name, above.lost);
}

Walk::OpenFolder Walk::open_folder_at(std::uint32_t first, const std::string& path, bool lost) {
    layouts_.add_deleted_folder(first);
    folder_clusters_.take(first);
    folders_.push_back({path, first, lost});
    OpenFolder open{folders_.size() - 1,
                    first,
                    first,
                    chains_.slots_of(first),
                    table_.stale_chain(first, clusters_for(kMostEntries * kEntrySize)),
                    {},
                    {},
                    0,
                    false};
    read_deleted(open);
    return open;
}

// Takes what stands in `folder.slots`.
void Walk::read_deleted(OpenFolder& folder) {
    const std::size_t before = deleted_.size();
    std::vector<DirectoryItem> items = read_items(folder.slots);
    for (const DirectoryItem& item : items)
        if (item.first_known) folder.names.push_back(item.short_name);
    for (DirectoryItem& item : items) {
        const DirectoryEntry& e = item.entry;
        if ((e.DIR_Attr & ATTR_VOLUME_ID) != 0 || !makes_sense(e, item.first_known)) continue;
        if (is_earlier_name(item)) {
            ++earlier_names_;
            continue;
        }
        const std::uint64_t behind = e.first_cluster() + (e.is_folder() ? 1 : clusters_for(e.DIR_FileSize));
        if (e.first_cluster() != 0 && behind <= geometry_.last_cluster())
            ends_.insert(static_cast<std::uint32_t>(behind));
        take_deleted(folder.folder, std::move(item), folder.names);
    }
    for (std::size_t i = deleted_.size(); i-- > before;)
        if (deleted_[i].item.entry.is_folder()) folder.to_open.push_back(i);
    folder.entries += folder.slots.size();
}

// Reads the next cluster of a folder that filled the last one; false where there is none.
bool Walk::extend(OpenFolder& folder) {
    if (folder.entries >= kMostEntries || folder.slots.empty() || has_end(folder.slots)) return false;
    const std::uint32_t next = next_cluster(folder);
    if (next == 0 || layouts_.is_deleted_folder(next)) return false;
    layouts_.add_deleted_folder(next);
    folder_clusters_.take(next);
    // The pieces of a long name whose short entry comes in the next cluster.
    const auto whole_until = std::find_if(folder.slots.rbegin(), folder.slots.rend(), [](const Slot& s) {
                                 return !s.entry.is_long_name();
                             }).base();
    std::vector<Slot> slots(whole_until, folder.slots.end());
    const std::vector<Slot> more = chains_.slots_of(next);
    slots.insert(slots.end(), more.begin(), more.end());
    folder.slots = std::move(slots);
    folder.current = next;
    read_deleted(folder);
    return true;
}

// A full folder goes on in another cluster, which nothing points to any more. Drivers take it when the next entry no
// longer fits: then it lies right behind what was written last. A new folder takes its own cluster before its entry.
std::uint32_t Walk::next_cluster(const OpenFolder& folder) {
    if (const auto told = std::find(folder.stale_chain.begin(), folder.stale_chain.end(), folder.current);
        told != folder.stale_chain.end() && told + 1 != folder.stale_chain.end())
        return *(told + 1);
    for (auto slot = folder.slots.rbegin(); slot != folder.slots.rend(); ++slot) {
        const DirectoryEntry& e = slot->entry;
        const std::uint64_t behind = e.first_cluster() + (e.is_folder() ? 1 : clusters_for(e.DIR_FileSize));
        if (e.is_long_name() || e.first_cluster() == 0 || behind > geometry_.last_cluster()) continue;
        if (can_follow(folder, static_cast<std::uint32_t>(behind))) return static_cast<std::uint32_t>(behind);
    }
    std::uint32_t tried = 0;
    for (auto end = ends_.upper_bound(folder.current); end != ends_.end() && tried < kFolderReach; ++end, ++tried)
        for (const std::uint32_t place : {*end, *end + 1})
            if (can_follow(folder, place)) return place;
    return next_cluster_anywhere(folder);
}

// Of all clusters that could follow: one that goes on with the name that was broken off, or with a folder that names
// this one as its parent; else the one whose entries are the next younger ones.
std::uint32_t Walk::next_cluster_anywhere(const OpenFolder& folder) {
    const auto own = earliest(folder.slots);
    std::uint32_t best = 0;
    const FileTime* best_time = nullptr;
    for (const auto& [cluster, time] : folder_clusters_.continuations()) {
        if ((own && time < *own && !folder.is_only_one) || !can_follow(folder, cluster)) continue;
        if (folder.slots.back().entry.is_long_name()) return cluster;
        if (best_time == nullptr || time < *best_time) {
            best = cluster;
            best_time = &time;
        }
    }
    return best;
}

bool Walk::can_follow(const OpenFolder& folder, std::uint32_t cluster) {
    if (probes_left_ == 0 || !geometry_.holds(cluster) || table_.taken(cluster) || layouts_.is_deleted_folder(cluster))
        return false;
    --probes_left_;
    const auto next = chains_.slots_of(cluster);
    return continues_directory(next) && joins(folder.slots.back().entry, next.front().entry) &&
           !subfolders_deny(folder.first, next);
}

// Whether a folder listed in `slots` still stands and says that it belongs to another folder than the one at `first`.
bool Walk::subfolders_deny(std::uint32_t first, std::span<const Slot> slots) const {
    const std::uint32_t as_parent = geometry_.width == Width::fat32 && first == geometry_.root_cluster ? 0 : first;
    return std::any_of(slots.begin(), slots.end(), [&](const Slot& slot) {
        const std::uint32_t below = slot.entry.first_cluster();
        if (slot.entry.is_long_name() || !slot.entry.is_folder() || !geometry_.holds(below) || table_.taken(below))
            return false;
        const auto dots = dot_entries(chains_.slots_of(below));
        return dots && dots->self == below && dots->parent != as_parent;
    });
}

// ---- where deleted files lie ---------------------------------------------------------------------------------------

Fit Walk::begins_as_named(const Deleted& file, std::uint32_t cluster) const {
    if (!options_.content_fits_name || !geometry_.holds(cluster)) return Fit::unknown;
    std::byte head[kHeadBytes];
    const auto part = std::span(head).first(std::min<std::size_t>(kHeadBytes, file.item.entry.DIR_FileSize));
    if (!volume_->read(geometry_.offset_of(cluster), part)) return Fit::unknown;
    return options_.content_fits_name(file.name, ByteView(part));
}

// A signature at its start is enough; text begins like any other text, so that its end has to be where the entry says.
Standing Walk::standing_of(const Deleted& file) const {
    if (table_.taken(file.first_cluster)) return Standing::no;
    const Fit fit = file.fit ? *file.fit : begins_as_named(file, file.first_cluster);
    if (fit == Fit::yes) return Standing::yes;
    return fit == Fit::likely && ends_as_recorded(file.runs, file.item.entry.DIR_FileSize) ? Standing::likely
                                                                                           : Standing::no;
}

// Whether content ends where a layout of that many bytes does: drivers leave zeros behind it, up to the end of the
// sector. False where the end of the content is the end of a sector, since then nothing shows it.
bool Walk::ends_as_recorded(const std::vector<Run>& runs, std::uint64_t size) const {
    constexpr std::uint64_t kLeastPadding = 4;
    const auto extents = chains_.extents(runs, size);
    const std::uint64_t end = extents.empty() ? 0 : extents.back().end();
    const std::uint64_t padding = (kHeadBytes - end % kHeadBytes) % kHeadBytes;
    if (end == 0 || padding < kLeastPadding) return false;
    std::byte last[kHeadBytes + 1];
    const auto part = std::span(last).first(static_cast<std::size_t>(padding) + 1);
    if (!volume_->read(end - 1, part)) return false;
    const ByteView behind(part.subspan(1));
    return part[0] != std::byte{0} && behind.is_uniform() && part[1] == std::byte{0};
}

// Of the layouts that are possible, the first whose end shows; else the one that skips all that seems to stand.
std::vector<Run> Walk::most_likely_layout(const Deleted& file, std::uint64_t count) {
    const auto when = written(file.item.entry);
    auto skips_all = layouts_.lay_out(file.first_cluster, count, when, Standing::likely);
    auto skips_sure = layouts_.lay_out(file.first_cluster, count, when, Standing::yes);
    if (skips_all == skips_sure || ends_as_recorded(skips_all, file.item.entry.DIR_FileSize)) return skips_all;
    return ends_as_recorded(skips_sure, file.item.entry.DIR_FileSize) ? skips_sure : skips_all;
}

// On FAT32 some systems clear the high half of a deleted entry's first cluster. Where the low half alone leads to what
// can't be the file, the other possible places are tried; only one whose content agrees is taken.
void Walk::find_start(Deleted& file) const {
    const std::uint32_t low = file.first_cluster;
    if (geometry_.width != Width::fat32 || low >= 0x10000 || file.item.entry.DIR_FileSize == 0) return;
    const bool possible = geometry_.holds(low) && !table_.taken(low);
    if (possible && (file.fit = begins_as_named(file, low)) != Fit::no) return;
    // Where the deleting system is seen to keep the high halves, text alone is too little to go by.
    const Fit needed = high_halves_kept_ ? Fit::yes : Fit::likely;
    std::vector<std::uint32_t> found;
    for (std::uint32_t high = 1; high <= geometry_.last_cluster() >> 16; ++high) {
        const std::uint32_t cluster = high << 16 | low;
        if (!geometry_.holds(cluster) || table_.taken(cluster) || known_starts_.contains(cluster) ||
            layouts_.is_deleted_folder(cluster))
            continue;
        if (begins_as_named(file, cluster) >= needed) found.push_back(cluster);
    }
    if (found.empty()) return;
    file.fit.reset();
    const auto distance = [&](std::uint32_t cluster) {
        const std::uint32_t folder = folders_[file.folder].first_cluster;
        return cluster > folder ? cluster - folder : folder - cluster;
    };
    file.first_cluster =
        *std::min_element(found.begin(), found.end(), [&](auto a, auto b) { return distance(a) < distance(b); });
    file.notes.push_back(
        found.size() == 1
            ? "the high half of its first cluster was cleared; it is inferred from the content"
            : fmt::format("the high half of its first cluster was cleared; of {} places whose content agrees "
                          "the one nearest to its folder is taken",
                          found.size()));
}

// A short name keeps three letters of an extension: of a .docx only .doc, whose content is another one.
void Walk::lengthen_extension(Deleted& file) const {
    const std::string extension = extension_of(file.name);
    if (!file.extension_is_cut || extension.size() != 3 || begins_as_named(file, file.first_cluster) == Fit::yes)
        return;
    const std::string stem = file.name.substr(0, file.name.size() - 3);
    for (const std::string_view longer : kLongExtensions) {
        if (!longer.starts_with(extension)) continue;
        Deleted renamed;
        renamed.item.entry = file.item.entry;
        renamed.name = stem + std::string(longer);
        if (begins_as_named(renamed, file.first_cluster) != Fit::yes) continue;
        file.name = renamed.name;
        file.name_is_whole = false;
        file.fit = Fit::yes;
        file.notes.emplace_back("the end of its extension is inferred from its content");
        return;
    }
}

void Walk::lay_out_deleted() {
    for (const Deleted& file : deleted_) {
        if (file.item.entry.DIR_FstClusHI == 0 || !geometry_.holds(file.item.entry.first_cluster())) continue;
        high_halves_kept_ = true;
        known_starts_.insert(file.item.entry.first_cluster());
    }
    std::vector<std::size_t> order(deleted_.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::erase_if(order, [&](std::size_t i) { return deleted_[i].item.entry.is_folder(); });
    for (const std::size_t i : order) {
        find_start(deleted_[i]);
        lengthen_extension(deleted_[i]);
    }
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        const auto when_a = written(deleted_[a].item.entry);
        const auto when_b = written(deleted_[b].item.entry);
        return when_a != when_b ? when_a < when_b : deleted_[a].first_cluster < deleted_[b].first_cluster;
    });
    for (const std::size_t i : order) {
        Deleted& file = deleted_[i];
        const std::uint64_t count = clusters_for(file.item.entry.DIR_FileSize);
        if (count == 0) {
            file.trust = LayoutTrust::exact;
            continue;
        }
        if (!geometry_.holds(file.first_cluster)) continue;
        const auto stale = table_.stale_chain(file.first_cluster, count);
        if (stale.size() == count) {
            for (const std::uint32_t cluster : stale) file.runs.push_back({cluster, 1});
            file.notes.emplace_back("its cluster chain still stands in the other FAT");
        } else {
            file.runs = most_likely_layout(file, count);
        }
        file.trust = count == 1 || stale.size() == count ? LayoutTrust::exact : LayoutTrust::assumed;
        layouts_.add_deleted_file(file.runs, standing_of(file));
    }
}

void Walk::emit_deleted() {
    // A file that was renamed and then deleted left two entries: the better name stands for both.
    std::map<std::tuple<std::uint32_t, std::uint32_t, std::uint32_t>, std::size_t> by_content;
    for (std::size_t i = 0; i < deleted_.size(); ++i) {
        const DirectoryEntry& e = deleted_[i].item.entry;
        if (e.is_folder() || e.DIR_FileSize == 0) continue;
        const auto [same, fresh] =
            by_content.try_emplace({deleted_[i].first_cluster, e.DIR_FileSize, write_stamp(e)}, i);
        if (!fresh && deleted_[i].name_is_whole && !deleted_[same->second].name_is_whole) same->second = i;
    }
    for (std::size_t i = 0; i < deleted_.size() && !stopped_; ++i) {
        Deleted& file = deleted_[i];
        const DirectoryEntry& e = file.item.entry;
        const auto same = by_content.find({file.first_cluster, e.DIR_FileSize, write_stamp(e)});
        if (!e.is_folder() && same != by_content.end() && same->second != i) continue;
        Record record = record_of(file.item, file.folder, std::move(file.name));
        record.state = State::deleted;
        const bool lost = folders_[file.folder].lost;
        record.origin = file.item.behind_end || lost ? Origin::remnant : Origin::record;
        if (lost)
            file.notes.emplace_back(
                "the name of a folder above it is overwritten; the number of a cluster stands for it");
        record.layout = chains_.extents(file.runs, record.size);
        record.trust = file.trust;
        record.name_is_whole = file.name_is_whole;
        record.notes = std::move(file.notes);
        emit(std::move(record));
    }
}

}  // namespace dredger::fat

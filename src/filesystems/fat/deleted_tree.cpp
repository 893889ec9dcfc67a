#include "filesystems/fat/deleted_tree.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>
#include <map>

namespace dredger::fat {
namespace {

constexpr std::uint32_t kFolderReach = 1024;   // ends of files behind which the next cluster of a folder is looked for
constexpr std::uint64_t kMaxProbes = 1 << 20;  // clusters looked at for the rest of folders, in one volume
// Free clusters looked at for folders that nothing leads to; they should lie near each other, for drives that seek.
constexpr std::uint64_t kMaxSearched = 1 << 17;
constexpr std::uint64_t kSearchedSpan = 1 << 30;  // bytes
constexpr char kLostFirst = '_';                  // stands for a first character that nothing tells

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

// Folders and those above them, each behind the one above it where that is among them; those that name each other in a
// circle come last.
std::vector<std::pair<std::uint32_t, std::uint32_t>> from_the_top(
    const std::map<std::uint32_t, std::uint32_t>& parents) {
    std::multimap<std::uint32_t, std::uint32_t> children;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> order;
    std::set<std::uint32_t> placed;
    const auto put = [&](std::uint32_t cluster, std::uint32_t parent) {
        if (placed.insert(cluster).second) order.emplace_back(cluster, parent);
    };
    for (const auto& [cluster, parent] : parents) {
        children.emplace(parent, cluster);
        if (!parents.contains(parent) || parent == cluster) put(cluster, parent);
    }
    for (std::size_t next = 0; next < order.size(); ++next) {
        const std::uint32_t above = order[next].first;
        const auto [first, last] = children.equal_range(above);
        for (auto child = first; child != last; ++child) put(child->second, above);
    }
    for (const auto& [cluster, parent] : parents) put(cluster, parent);
    return order;
}

}  // namespace

void LiveHeads::add(std::uint32_t first_cluster, std::uint32_t size, std::uint32_t stamp) {
    heads_.push_back({first_cluster, size, stamp});
}

void LiveHeads::seal() { std::sort(heads_.begin(), heads_.end()); }

bool LiveHeads::hold(const DirectoryEntry& e) const {
    if (e.first_cluster() == 0) return false;
    const Head head =
        e.is_folder() ? Head{e.first_cluster(), 0, 0} : Head{e.first_cluster(), e.DIR_FileSize, write_stamp(e)};
    return std::binary_search(heads_.begin(), heads_.end(), head);
}

DeletedTree::DeletedTree(const MediumPtr& volume, const Geometry& geometry, const Table& table, CodePage code_page,
                         Chains& chains, Layouts& layouts, std::vector<Folder>& folders)
    : volume_(volume),
      geometry_(geometry),
      table_(table),
      code_page_(code_page),
      chains_(chains),
      layouts_(layouts),
      folders_(folders),
      probes_left_(kMaxProbes) {}

void DeletedTree::take(std::size_t folder, DirectoryItem item, const std::vector<ShortName>& neighbours) {
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
            file.name = shown(short_name, file.item.entry.DIR_NTRes, code_page_);
            file.extension_is_cut =
                std::find(short_name.begin(), short_name.begin() + 8, '~') != short_name.begin() + 8;
            break;
        case LongName::cut:
            file.name_is_whole = false;
            file.extension_is_cut = true;
            file.name = completed(utf16_to_utf8(file.item.long_name), extension_of(shown(short_name, 0, code_page_)));
            file.notes.emplace_back("the end of the long name is overwritten; its extension is that of the short name");
            break;
    }
    if (file.name.empty()) return;
    files_.push_back(std::move(file));
}

void DeletedTree::walk(const LiveHeads& live) {
    live_ = &live;
    const auto kept =
        std::remove_if(files_.begin(), files_.end(), [&](const Deleted& f) { return live.hold(f.item.entry); });
    earlier_names_ += static_cast<std::uint64_t>(files_.end() - kept);
    files_.erase(kept, files_.end());
    const std::size_t in_live_folders = files_.size();
    std::vector<Run> known;
    for (const Deleted& file : files_)
        if (!file.item.entry.is_folder() && geometry_.holds(file.first_cluster))
            known.push_back(
                {file.first_cluster, static_cast<std::uint32_t>(clusters_for(file.item.entry.DIR_FileSize))});
    folder_clusters_.search(*volume_, geometry_, table_, known,
                            std::min(kMaxSearched, kSearchedSpan / geometry_.cluster_size));
    if (geometry_.width == Width::fat32) walk_former_root();
    for (std::size_t index = 0; index < in_live_folders; ++index)
        if (files_[index].item.entry.is_folder()) walk_deleted_folder(open_deleted_folder(index));
    if (!leaves_continuations_) resume_unfinished();
    walk_lost_folders();
}

bool DeletedTree::is_root(const Folder& folder) const {
    return geometry_.width == Width::fat32 ? folder.first_cluster == geometry_.root_cluster : folder.first_cluster == 0;
}

// Formatting clears the first cluster of the root. Later ones still stand, and list folders that say of themselves that
// they lie in the root.
std::uint32_t DeletedTree::next_of_root(std::uint32_t behind) const {
    const auto lists_top_folders = [&](std::uint32_t cluster) {
        const auto slots = chains_.slots_of(cluster);
        const auto lies_in_root = [&](const Slot& slot) { return parent_told_below(slot) == 0U; };
        return continues_directory(slots) && std::any_of(slots.begin(), slots.end(), lies_in_root) &&
               !subfolders_deny(geometry_.root_cluster, slots);
    };
    const auto& candidates = folder_clusters_.continuations();
    for (auto next = candidates.upper_bound(behind); next != candidates.end(); ++next)
        if (lists_top_folders(next->first)) return next->first;
    for (auto next = candidates.begin(); next != candidates.end() && next->first < behind; ++next)
        if (lists_top_folders(next->first)) return next->first;
    return 0;
}

// All clusters of it that can be told, before others take them for their own.
void DeletedTree::walk_former_root() {
    std::uint32_t first = geometry_.root_cluster;
    std::vector<Slot> slots = std::move(former_root_);
    if (slots.empty()) {
        first = next_of_root(1);
        if (first == 0) return;
        slots = chains_.slots_of(first);
    }
    layouts_.add_deleted_folder(first);
    folder_clusters_.take(first);
    folders_.push_back({"", geometry_.root_cluster, false, true});
    OpenFolder root{folders_.size() - 1, geometry_.root_cluster, first, std::move(slots), {}, {}, {}, 0, false, true};
    read_deleted(root);
    walk_deleted_folder(std::move(root));
}

// Where just one folder has to go on somewhere, what goes on with a folder is most likely its own.
void DeletedTree::resume_unfinished() {
    while (unfinished_.size() == 1 && !folder_clusters_.continuations().empty()) {
        OpenFolder folder = std::move(unfinished_.front());
        unfinished_.clear();
        folder.is_only_one = true;
        const std::size_t clusters = folder_clusters_.continuations().size();
        walk_deleted_folder(std::move(folder));
        if (folder_clusters_.continuations().size() == clusters) return;
    }
}

// Folders whose own entry is overwritten, and clusters of folders whose beginning is: named by where they lie.
void DeletedTree::walk_lost_folders() {
    std::map<std::uint32_t, std::size_t> by_cluster;  // the folders so far, the first one of each cluster
    std::size_t listed = 0;
    for (const auto& [cluster, parent] : from_the_top(folder_clusters_.beginnings())) {
        // A folder below another lost one was met in there, with its name, where its entry still stands.
        if (!folder_clusters_.beginnings().contains(cluster)) continue;
        for (; listed < folders_.size(); ++listed) by_cluster.emplace(folders_[listed].first_cluster, listed);
        const auto above = by_cluster.find(parent);
        const std::string path = parent == 0 || above == by_cluster.end() ? "" : folders_[above->second].path;
        walk_deleted_folder(open_folder({joined(path, fmt::format("(folder {})", cluster)), cluster, true}));
    }
    while (!leaves_continuations_ && !folder_clusters_.continuations().empty()) {
        const std::uint32_t cluster = folder_clusters_.continuations().begin()->first;
        walk_deleted_folder(open_folder({fmt::format("(part of a folder {})", cluster), cluster, true}));
    }
}

void DeletedTree::walk_deleted_folder(std::optional<OpenFolder> top) {
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
bool DeletedTree::begins_folder(const Deleted& folder, std::uint32_t cluster) const {
    if (!geometry_.holds(cluster) || table_.taken(cluster)) return false;
    const auto dots = dot_entries(chains_.slots_of(cluster));
    if (!dots || dots->self != cluster) return false;
    const Folder& above = folders_[folder.folder];
    return dots->parent == above.first_cluster || (dots->parent == 0 && is_root(above));
}

std::optional<DeletedTree::OpenFolder> DeletedTree::open_deleted_folder(std::size_t index) {
    Deleted& folder = files_[index];
    std::uint32_t first = folder.first_cluster;
    bool stands = begins_folder(folder, first);
    if (!stands && geometry_.width == Width::fat32 && first < 0x10000) {
        for (std::uint32_t high = 1; high <= geometry_.last_cluster() >> 16; ++high) {
            if (!begins_folder(folder, high << 16 | first)) continue;
            stands = true;
            first |= high << 16;
            folder.notes.emplace_back(
                "the high half of its first cluster was cleared; the folder was found by its own entries");
            break;
        }
    }
    folder.first_cluster = first;
    if (!stands || layouts_.is_deleted_folder(first)) {
        folder.notes.emplace_back("its list of files is overwritten");
        return std::nullopt;
    }
    folder.trust = LayoutTrust::exact;
    const Folder& above = folders_[folder.folder];
    return open_folder({joined(above.path, folder.name), first, above.lost, above.formatted});
}

DeletedTree::OpenFolder DeletedTree::open_folder(Folder folder) {
    const std::uint32_t first = folder.first_cluster;
    layouts_.add_deleted_folder(first);
    folder_clusters_.take(first);
    folders_.push_back(std::move(folder));
    OpenFolder open{folders_.size() - 1,
                    first,
                    first,
                    chains_.slots_of(first),
                    table_.stale_chain(first, clusters_for(kMaxEntries * kEntrySize)),
                    {},
                    {},
                    0,
                    false,
                    false};
    read_deleted(open);
    return open;
}

// Takes what stands in `folder.slots`.
void DeletedTree::read_deleted(OpenFolder& folder) {
    const std::size_t before = files_.size();
    std::vector<DirectoryItem> items = read_items(folder.slots);
    for (const DirectoryItem& item : items)
        if (item.first_known) folder.names.push_back(item.short_name);
    for (DirectoryItem& item : items) {
        const DirectoryEntry& e = item.entry;
        if ((e.DIR_Attr & ATTR_VOLUME_ID) != 0 || !makes_sense(e, item.first_known)) continue;
        if (live_->hold(e)) {
            ++earlier_names_;
            continue;
        }
        if (const std::uint32_t behind = cluster_behind(e); behind != 0) ends_.insert(behind);
        take(folder.folder, std::move(item), folder.names);
    }
    for (std::size_t i = files_.size(); i-- > before;)
        if (files_[i].item.entry.is_folder()) folder.to_open.push_back(i);
    folder.entries += folder.slots.size();
}

// The cluster right behind an entry's content, if that is in one piece; 0 where there is none.
std::uint32_t DeletedTree::cluster_behind(const DirectoryEntry& e) const {
    const std::uint64_t behind = e.first_cluster() + (e.is_folder() ? 1 : clusters_for(e.DIR_FileSize));
    return e.first_cluster() == 0 || behind > geometry_.last_cluster() ? 0 : static_cast<std::uint32_t>(behind);
}

// Reads the next cluster of a folder that filled the last one; false where there is none.
bool DeletedTree::extend(OpenFolder& folder) {
    if (folder.entries >= kMaxEntries || folder.slots.empty() || has_end(folder.slots)) return false;
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
std::uint32_t DeletedTree::next_cluster(const OpenFolder& folder) {
    if (const auto told = std::find(folder.stale_chain.begin(), folder.stale_chain.end(), folder.current);
        told != folder.stale_chain.end() && told + 1 != folder.stale_chain.end())
        return *(told + 1);
    if (folder.is_root)
        if (const std::uint32_t next = next_of_root(folder.current); next != 0) return next;
    for (auto slot = folder.slots.rbegin(); slot != folder.slots.rend(); ++slot) {
        const std::uint32_t behind = slot->entry.is_long_name() ? 0 : cluster_behind(slot->entry);
        if (behind != 0 && can_follow(folder, behind)) return behind;
    }
    std::uint32_t tried = 0;
    for (auto end = ends_.upper_bound(folder.current); end != ends_.end() && tried < kFolderReach; ++end, ++tried)
        for (const std::uint32_t place : {*end, *end + 1})
            if (can_follow(folder, place)) return place;
    return next_cluster_anywhere(folder);
}

// Of all clusters that could follow: one that goes on with the name that was broken off, or with a folder that names
// this one as its parent; else the one whose entries are the next younger ones.
std::uint32_t DeletedTree::next_cluster_anywhere(const OpenFolder& folder) {
    const auto own = earliest(folder.slots);
    std::uint32_t best = 0;
    const FileTime* best_time = nullptr;
    for (const auto& [cluster, time] : folder_clusters_.continuations()) {
        if (probes_left_ == 0) break;
        if ((own && time < *own && !folder.is_only_one) || !can_follow(folder, cluster)) continue;
        if (folder.slots.back().entry.is_long_name()) return cluster;
        if (best_time == nullptr || time < *best_time) {
            best = cluster;
            best_time = &time;
        }
    }
    return best;
}

bool DeletedTree::can_follow(const OpenFolder& folder, std::uint32_t cluster) {
    if (probes_left_ == 0 || !geometry_.holds(cluster) || table_.taken(cluster) || layouts_.is_deleted_folder(cluster))
        return false;
    --probes_left_;
    const auto next = chains_.slots_of(cluster);
    return continues_directory(next) && joins(folder.slots.back().entry, next.front().entry) &&
           !subfolders_deny(folder.first, next);
}

// The folder above, as a folder that is listed here says itself where it still stands.
std::optional<std::uint32_t> DeletedTree::parent_told_below(const Slot& slot) const {
    const std::uint32_t below = slot.entry.first_cluster();
    if (slot.entry.is_long_name() || !slot.entry.is_folder() || !geometry_.holds(below)) return std::nullopt;
    const auto dots = dot_entries(chains_.slots_of(below));
    return dots && dots->self == below ? std::optional(dots->parent) : std::nullopt;
}

// Whether a folder listed in `slots` still stands and says that it belongs to another folder than the one at `first`.
bool DeletedTree::subfolders_deny(std::uint32_t first, std::span<const Slot> slots) const {
    const std::uint32_t as_parent = geometry_.width == Width::fat32 && first == geometry_.root_cluster ? 0 : first;
    return std::any_of(slots.begin(), slots.end(), [&](const Slot& slot) {
        const auto parent = parent_told_below(slot);
        return parent && *parent != as_parent && !table_.taken(slot.entry.first_cluster());
    });
}

}  // namespace dredger::fat

#include "mounting/finds_folder.h"

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "base/text.h"
#include "filesystems/posix.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::int64_t kAskEvery = 2;  // seconds
// The numbers of files and of links follow their candidates'.
constexpr FindsFolder::Number kFiles = FindsFolder::Number{1} << 40, kLinks = FindsFolder::Number{1} << 41;
constexpr const char* kByProspect = "By prospect";

std::int64_t now() {
    return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::steady_clock::now().time_since_epoch())
        .count();
}

// When the catalog was written to last, in some unit.
std::int64_t written_at(const fs::path& catalog) {
    std::int64_t last = 0;
    for (const char* ending : {"", "-wal"}) {
        std::error_code failed;
        const auto time = fs::last_write_time(catalog.string() + ending, failed);
        if (!failed) last = std::max<std::int64_t>(last, time.time_since_epoch().count());
    }
    return last;
}

// On the clock of this machine, where the record's is local.
FindsFolder::Moment moment_of(const std::optional<FileTime>& time, FindsFolder::Moment otherwise) {
    if (!time) return otherwise;
    return {time->clock == FileTime::Clock::local ? utc_of_local_digits(time->seconds) : time->seconds,
            time->nanoseconds};
}

}  // namespace

FindsFolder::Number FindsFolder::number_of_folder(const std::string& path) {
    if (path.empty()) return kRoot;
    return folder_numbers_.try_emplace(path, kRoot + 1 + folder_numbers_.size()).first->second;
}

std::shared_ptr<FindsFolder::Item> FindsFolder::folder_at(const std::string& path, Tree& tree, Paths& by_path) {
    auto& known = by_path[path];
    if (known && known->is_folder) return known;
    if (known) {  // a file has the name
        const auto [folder, name] = split_path(path);
        return folder_at(joined(folder, numbered_name(std::string(name), 2)), tree, by_path);
    }
    known = std::make_shared<Item>();
    const std::shared_ptr<Item> made = known;
    made->is_folder = true;
    made->number = number_of_folder(path);
    tree.items[made->number] = made;
    if (path.empty()) return made;
    const auto [folder, name] = split_path(path);
    made->name = name;
    const auto above = folder_at(std::string(folder), tree, by_path);
    made->parent = above->number;
    above->children.push_back(made->number);
    return made;
}

std::string FindsFolder::free_path(std::string_view folder, std::string_view name, const Paths& by_path) {
    std::string place = joined(folder, name);
    for (unsigned number = 2; by_path.contains(place); ++number)
        place = joined(folder, numbered_name(std::string(name), number));
    return place;
}

void FindsFolder::add(const Candidate& candidate, Tree& tree, Paths& by_path) {
    const FileEntry& record = candidate.record;
    const NameFacts facts{&candidate, nullptr, "", static_cast<std::uint64_t>(candidate.id)};
    std::string path = Landing::wanted(facts, arrangement_, nullptr, kUnixNames).generic_string();
    if (const auto above = volume_folders_->find(candidate.volume); above != volume_folders_->end())
        path = joined(above->second, path);
    std::shared_ptr<Item> item;
    if (record.is_folder) {
        if (arrangement_ != Arrangement::tree) return;
        item = folder_at(path, tree, by_path);
    } else {
        const auto [folder, name] = split_path(path);
        const auto above = folder_at(std::string(folder), tree, by_path);
        const std::string place = free_path(folder, name, by_path);
        item = std::make_shared<Item>();
        item->number = kFiles + static_cast<Number>(candidate.id);
        item->parent = above->number;
        item->name = split_path(place).name;
        item->size = record.size;
        above->children.push_back(item->number);
        by_path[place] = item;
        tree.items[item->number] = item;
        ++tree.files;
    }
    item->candidate = candidate.id;
    item->permissions = permissions_of(record).value_or(0);
    item->modified = moment_of(record.modified, {});
    item->accessed = moment_of(record.accessed, item->modified);
    item->changed = moment_of(record.changed, item->modified);
    if (by_prospect_ && !record.is_folder) tree.links.emplace_back(candidate.prospect.band, item->number);
}

void FindsFolder::add_link(Band band, const Item& item, Tree& tree, Paths& by_path) {
    const std::string folder = joined(tree.by_prospect, word_for(band));
    const auto above = folder_at(folder, tree, by_path);
    auto link = std::make_shared<Item>();
    link->number = kLinks + static_cast<Number>(item.candidate);
    link->parent = above->number;
    link->link_to = item.number;
    link->modified = link->accessed = link->changed = item.modified;
    const std::string place = free_path(folder, item.name, by_path);
    link->name = split_path(place).name;
    above->children.push_back(link->number);
    by_path[place] = link;
    link->size = target_in(tree, *link).size();
    tree.items[link->number] = link;
}

Result<void> FindsFolder::name_volumes() {
    volume_folders_.emplace();
    if (arrangement_ != Arrangement::tree) return {};
    std::map<std::int64_t, std::string> named;
    DREDGER_TRY(const auto volumes, catalog_.volumes());
    for (const ScannedVolume& volume : volumes) {
        Selection of_volume = selection_;
        of_volume.volumes = {volume.id};
        if (!selection_.volumes.empty() && !selection_.volumes.contains(volume.id)) continue;
        DREDGER_TRY(const std::int64_t count, catalog_.count(of_volume));
        if (count > 0) named[volume.id] = mapped_part(name_of_volume(volume), kWindowsNames);
    }
    if (named.size() > 1) volume_folders_ = std::move(named);
    return {};
}

Result<void> FindsFolder::load() {
    const std::lock_guard lock(catalog_mutex_);
    if (!volume_folders_) DREDGER_CHECK(name_volumes());
    const std::int64_t version = written_at(catalog_.path());
    auto tree = std::make_shared<Tree>();
    Paths by_path;
    folder_at("", *tree, by_path);
    Order by;
    by.by = Order::By::path;
    DREDGER_CHECK(catalog_.each(selection_, by, false, [&](Candidate& candidate) {
        add(candidate, *tree, by_path);
        return true;
    }));
    if (!tree->links.empty()) {
        tree->by_prospect = free_path("", kByProspect, by_path);
        for (const auto& [band, number] : tree->links) add_link(band, *tree->items.at(number), *tree, by_path);
    }
    for (const auto& [number, item] : tree->items)
        std::sort(item->children.begin(), item->children.end(),
                  [&](Number a, Number b) { return tree->items.at(a)->name < tree->items.at(b)->name; });
    const std::lock_guard tree_lock(tree_mutex_);
    tree_ = std::move(tree);
    seen_version_ = version;
    asked_at_ = now();
    return {};
}

void FindsFolder::load_if_changed() {
    {
        const std::lock_guard lock(tree_mutex_);
        if (now() - asked_at_ < kAskEvery) return;
        asked_at_ = now();
        if (written_at(catalog_.path()) == seen_version_) return;
    }
    // Where it can't be read just now, what was read before stays.
    (void)load();
}

FindsFolder::ItemPtr FindsFolder::find(Number number) const {
    const std::lock_guard lock(tree_mutex_);
    const auto found = tree_->items.find(number);
    return found == tree_->items.end() ? nullptr : found->second;
}

FindsFolder::ItemPtr FindsFolder::lookup(Number folder, std::string_view name) const {
    const std::lock_guard lock(tree_mutex_);
    const auto above = tree_->items.find(folder);
    if (above == tree_->items.end()) return nullptr;
    const auto& children = above->second->children;
    const auto child = std::lower_bound(
        children.begin(), children.end(), name,
        [&](Number number, std::string_view wanted) { return tree_->items.at(number)->name < wanted; });
    if (child == children.end()) return nullptr;
    const auto& item = tree_->items.at(*child);
    return item->name == name ? ItemPtr(item) : nullptr;
}

std::uint64_t FindsFolder::files() const {
    const std::lock_guard lock(tree_mutex_);
    return tree_->files;
}

std::string FindsFolder::target_in(const Tree& tree, const Item& link) {
    const auto path_of = [&](Number number) {
        std::string path;
        for (std::size_t depth = 0; number != kRoot && depth <= tree.items.size(); ++depth) {
            const auto& item = *tree.items.at(number);
            path = path.empty() ? item.name : item.name + "/" + path;
            number = item.parent;
        }
        return path;
    };
    // A band's folder lies in the one of all bands, and that in the root.
    return "../../" + path_of(link.link_to);
}

std::string FindsFolder::target_of(const Item& link) const {
    const std::lock_guard lock(tree_mutex_);
    return tree_->items.contains(link.link_to) ? target_in(*tree_, link) : "";
}

Result<std::optional<Candidate>> FindsFolder::candidate(std::int64_t id) const {
    const std::lock_guard lock(catalog_mutex_);
    return catalog_.find(id);
}

}  // namespace dredger

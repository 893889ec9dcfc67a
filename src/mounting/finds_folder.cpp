#include "mounting/finds_folder.h"

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::int64_t kAskEvery = 2;                                 // seconds
constexpr FindsFolder::Number kFiles = FindsFolder::Number{1} << 40;  // those of files follow their candidates'

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

}  // namespace

FindsFolder::Number FindsFolder::number_of_folder(const std::string& path) {
    if (path.empty()) return kRoot;
    return folder_numbers_.try_emplace(path, kRoot + 1 + folder_numbers_.size()).first->second;
}

std::shared_ptr<FindsFolder::Item> FindsFolder::folder_at(const std::string& path, Tree& tree,
                                                          std::map<std::string, std::shared_ptr<Item>>& by_path) {
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

void FindsFolder::add(const Candidate& candidate, Tree& tree, std::map<std::string, std::shared_ptr<Item>>& by_path) {
    const FileEntry& record = candidate.record;
    const NameFacts facts{&candidate, nullptr, "", static_cast<std::uint64_t>(candidate.id)};
    const std::string path = Landing::wanted(facts, arrangement_, nullptr, kUnixNames).generic_string();
    std::shared_ptr<Item> item;
    if (record.is_folder) {
        if (arrangement_ != Arrangement::tree) return;
        item = folder_at(path, tree, by_path);
    } else {
        const auto [folder, name] = split_path(path);
        const auto above = folder_at(std::string(folder), tree, by_path);
        std::string place = joined(folder, name);
        for (unsigned number = 2; by_path.contains(place); ++number)
            place = joined(folder, numbered_name(std::string(name), number));
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
    if (record.modified) {
        item->modified = record.modified->clock == FileTime::Clock::local
                             ? utc_of_local_digits(record.modified->seconds)
                             : record.modified->seconds;
        item->nanoseconds = record.modified->nanoseconds;
    }
}

Result<void> FindsFolder::load() {
    const std::lock_guard lock(catalog_mutex_);
    const std::int64_t version = written_at(catalog_.path());
    auto tree = std::make_shared<Tree>();
    std::map<std::string, std::shared_ptr<Item>> by_path;
    folder_at("", *tree, by_path);
    Order by;
    by.by = Order::By::path;
    DREDGER_CHECK(catalog_.each(selection_, by, false, [&](Candidate& candidate) {
        add(candidate, *tree, by_path);
        return true;
    }));
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

Result<std::optional<Candidate>> FindsFolder::candidate(std::int64_t id) const {
    const std::lock_guard lock(catalog_mutex_);
    return catalog_.find(id);
}

}  // namespace dredger

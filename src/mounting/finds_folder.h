// The chosen finds of a catalog as folders and files with numbers, as a file system asks for them.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "catalog/catalog.h"
#include "restoring/landing.h"

namespace dredger {

// From any thread.
class FindsFolder {
  public:
    using Number = std::uint64_t;  // of a file or folder; stays the same while the folder lives
    static constexpr Number kRoot = 1;

    struct Item {
        Number number = 0, parent = 0;
        std::string name;
        std::int64_t candidate = 0;  // 0: a folder that is known only as one above others
        bool is_folder = false;
        std::uint64_t size = 0;         // bytes
        std::int64_t modified = 0;      // seconds since 1970
        std::uint32_t nanoseconds = 0;  // of that
        std::vector<Number> children;   // of a folder, by name
    };
    using ItemPtr = std::shared_ptr<const Item>;

    // The catalog outlives it.
    FindsFolder(const Catalog& catalog, Selection selection, Arrangement arrangement)
        : catalog_(catalog), selection_(std::move(selection)), arrangement_(arrangement) {}

    // Reads what is chosen; what is known already keeps its number.
    Result<void> load();
    // The same, where the catalog has changed since; asks at most every few seconds.
    void load_if_changed();

    ItemPtr find(Number number) const;  // null: there is none
    ItemPtr lookup(Number folder, std::string_view name) const;
    std::uint64_t files() const;

    // A candidate with all that is known of it.
    Result<std::optional<Candidate>> candidate(std::int64_t id) const;

  private:
    struct Tree {
        std::unordered_map<Number, std::shared_ptr<Item>> items;
        std::uint64_t files = 0;
    };
    Number number_of_folder(const std::string& path);
    void add(const Candidate& candidate, Tree& tree, std::map<std::string, std::shared_ptr<Item>>& by_path);
    std::shared_ptr<Item> folder_at(const std::string& path, Tree& tree,
                                    std::map<std::string, std::shared_ptr<Item>>& by_path);

    const Catalog& catalog_;
    Selection selection_;
    Arrangement arrangement_;
    mutable std::mutex catalog_mutex_;
    mutable std::mutex tree_mutex_;
    std::shared_ptr<const Tree> tree_;
    std::unordered_map<std::string, Number> folder_numbers_;  // by path
    std::int64_t seen_version_ = 0;
    std::int64_t asked_at_ = 0;  // seconds
};

}  // namespace dredger

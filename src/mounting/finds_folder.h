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

    struct Moment {
        std::int64_t seconds = 0;  // since 1970, UTC
        std::uint32_t nanoseconds = 0;
    };

    struct Item {
        Number number = 0, parent = 0;
        std::string name;
        std::int64_t candidate = 0;  // 0: a folder that is known only as one above others
        bool is_folder = false;
        std::uint64_t size = 0;         // bytes
        std::uint16_t permissions = 0;  // as recorded; 0: nobody says
        Moment modified, accessed, changed;
        std::vector<Number> children;  // of a folder, by name
        Number link_to = 0;            // it is a symbolic link to that one; 0: it is none
    };
    using ItemPtr = std::shared_ptr<const Item>;

    // `by_prospect`: a folder of that name has a folder for each band, with links to its finds. The catalog outlives
    // it.
    FindsFolder(const Catalog& catalog, Selection selection, Arrangement arrangement, bool by_prospect = false)
        : catalog_(catalog), selection_(std::move(selection)), arrangement_(arrangement), by_prospect_(by_prospect) {}

    // Reads what is chosen; what is known already keeps its number.
    Result<void> load();
    // The same, where the catalog has changed since; asks at most every few seconds.
    void load_if_changed();

    ItemPtr find(Number number) const;  // null: there is none
    ItemPtr lookup(Number folder, std::string_view name) const;
    std::uint64_t files() const;
    // Where a link leads, from the folder that it lies in.
    std::string target_of(const Item& link) const;

    // A candidate with all that is known of it.
    Result<std::optional<Candidate>> candidate(std::int64_t id) const;

  private:
    struct Tree {
        std::unordered_map<Number, std::shared_ptr<Item>> items;
        std::uint64_t files = 0;
        std::vector<std::pair<Band, Number>> links;  // to be made once all files are there
        std::string by_prospect;                     // the folder that they lie below
    };
    // The folder above all for each volume, where the finds lie on several: decided once, so that what is open stays.
    Result<void> name_volumes();
    using Paths = std::map<std::string, std::shared_ptr<Item>>;
    Number number_of_folder(const std::string& path);
    // A path beneath the root that nothing has yet.
    static std::string free_path(std::string_view folder, std::string_view name, const Paths& by_path);
    static std::string target_in(const Tree& tree, const Item& link);
    void add_link(Band band, const Item& item, Tree& tree, Paths& by_path);
    void add(const Candidate& candidate, Tree& tree, Paths& by_path);
    std::shared_ptr<Item> folder_at(const std::string& path, Tree& tree, Paths& by_path);

    const Catalog& catalog_;
    Selection selection_;
    Arrangement arrangement_;
    bool by_prospect_;
    std::optional<std::map<std::int64_t, std::string>> volume_folders_;
    mutable std::mutex catalog_mutex_;
    mutable std::mutex tree_mutex_;
    std::shared_ptr<const Tree> tree_;
    std::unordered_map<std::string, Number> folder_numbers_;  // by path
    std::int64_t seen_version_ = 0;
    std::int64_t asked_at_ = 0;  // seconds
};

}  // namespace dredger

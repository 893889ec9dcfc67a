// Pick lists: CSV files that name chosen candidates, of one or several catalogs. `list --as csv` writes them, and so do
// the preview page and `picks`; spreadsheets change them.
#pragma once

#include <filesystem>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "catalog/catalog.h"

namespace dredger {

struct PickTrouble {
    std::size_t line = 0;  // of the file, from 1
    std::string what;
    bool names_nothing = true;  // false: it names a find, but says something else of it
};

struct PickList {
    struct Pick {
        std::size_t line = 0;
        std::string catalog;  // file name
        std::int64_t id = 0;
        std::vector<std::string> fields;  // as they stand in the file
    };
    std::vector<std::string> columns;
    std::vector<Pick> picks;            // each candidate once
    std::vector<PickTrouble> troubles;  // lines that name nothing

    std::set<std::string> catalogs() const;
    std::map<std::int64_t, std::size_t> lines_of(const std::string& catalog) const;  // by id
};

// The columns of a list that dredger writes.
const std::vector<std::string>& pick_columns();
// A candidate's row in these. `volume` is its number.
std::vector<std::string> pick_row(const Candidate& candidate, const std::string& catalog, unsigned volume);

Result<PickList> read_picks(const std::filesystem::path& file);
Result<void> write_picks(const std::filesystem::path& file, const PickList& list);

// Adds these; how many were not in it yet.
Result<std::uint64_t> add_picks(PickList& list, const Catalog& catalog, const Selection& selection);
// Takes these out; how many were in it.
Result<std::uint64_t> remove_picks(PickList& list, const Catalog& catalog, const Selection& selection);

// What of the list names nothing in this catalog, or something else than the list says.
Result<std::vector<PickTrouble>> check_picks(const PickList& list, const Catalog& catalog);

// Where the catalog of this name lies: among those given, beside the list, or here. Empty: nowhere.
std::filesystem::path find_catalog(const std::string& name, const std::vector<std::filesystem::path>& given,
                                   const std::filesystem::path& list);

}  // namespace dredger

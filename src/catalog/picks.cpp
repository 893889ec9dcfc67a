#include "catalog/picks.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>

#include "base/csv.h"
#include "base/text.h"
#include "base/whole_file.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr const char* kHint = "dredger list CATALOG --as csv writes one";

std::string time_or_nothing(const std::optional<FileTime>& time) { return time ? iso8601(*time) : ""; }

std::map<std::int64_t, unsigned> volume_numbers(const Catalog& catalog) {
    std::map<std::int64_t, unsigned> numbers;
    if (const auto volumes = catalog.volumes())
        for (const ScannedVolume& volume : *volumes) numbers[volume.id] = volume.place.number;
    return numbers;
}

}  // namespace

std::set<std::string> PickList::catalogs() const {
    std::set<std::string> names;
    for (const Pick& pick : picks) names.insert(pick.catalog);
    return names;
}

std::map<std::int64_t, std::size_t> PickList::lines_of(const std::string& catalog) const {
    std::map<std::int64_t, std::size_t> lines;
    for (const Pick& pick : picks)
        if (pick.catalog == catalog) lines[pick.id] = pick.line;
    return lines;
}

const std::vector<std::string>& pick_columns() {
    static const std::vector<std::string> kColumns = {"catalog",  "id",      "state",   "origin", "prospect",
                                                      "band",     "check",   "kind",    "format", "size",
                                                      "modified", "created", "deleted", "volume", "path"};
    return kColumns;
}

std::vector<std::string> pick_row(const Candidate& c, const std::string& catalog, unsigned volume) {
    return {catalog,
            std::to_string(c.id),
            std::string(word_for(c.record.state)),
            std::string(word_for(c.record.origin)),
            std::to_string(c.prospect.value),
            std::string(word_for(c.prospect.band)),
            std::string(word_for(c.prospect.check)),
            std::string(word_for(c.kind)),
            c.format,
            std::to_string(c.record.size),
            time_or_nothing(c.record.modified),
            time_or_nothing(c.record.created),
            time_or_nothing(c.record.deleted),
            std::to_string(volume),
            c.record.path()};
}

Result<PickList> read_picks(const fs::path& file) {
    const auto text = read_whole_file(file);
    if (!text) return fail(ErrorKind::usage, "the pick list can't be read", file.string(), kHint);
    const auto table = read_csv(*text);
    if (!table) return fail(ErrorKind::usage, "this is not a pick list", file.string(), kHint);
    const auto has = [&](const char* name) {
        return std::find(table->columns.begin(), table->columns.end(), name) != table->columns.end();
    };
    if (!has("id") || !has("catalog"))
        return fail(ErrorKind::usage, "this pick list has no columns \"catalog\" and \"id\"", file.string(), kHint);
    PickList list;
    list.columns = table->columns;
    std::set<std::pair<std::string, std::int64_t>> known;
    for (const CsvTable::Row& row : table->rows) {
        PickList::Pick pick{row.line, table->field(row, "catalog"), 0, row.fields};
        const std::string& id = table->field(row, "id");
        const auto [end, error] = std::from_chars(id.data(), id.data() + id.size(), pick.id);
        if (error != std::errc() || end != id.data() + id.size() || pick.id <= 0)
            list.troubles.push_back({row.line, fmt::format("\"{}\" is no ID", id)});
        else if (pick.catalog.empty())
            list.troubles.push_back({row.line, "it names no catalog"});
        else if (known.insert({pick.catalog, pick.id}).second)
            list.picks.push_back(std::move(pick));
    }
    return list;
}

Result<void> write_picks(const fs::path& file, const PickList& list) {
    std::string text = csv_row(list.columns);
    for (const PickList::Pick& pick : list.picks) text += csv_row(pick.fields);
    return write_whole_file(file, text);
}

Result<std::uint64_t> add_picks(PickList& list, const Catalog& catalog, const Selection& selection) {
    if (list.columns.empty()) list.columns = pick_columns();
    const std::string name = catalog.path().filename().string();
    const auto known = list.lines_of(name);
    const auto numbers = volume_numbers(catalog);
    std::uint64_t added = 0;
    DREDGER_CHECK(catalog.each(selection, Order{Order::By::path}, false, [&](const Candidate& c) {
        if (known.contains(c.id)) return true;
        const auto volume = numbers.find(c.volume);
        const auto row = pick_row(c, name, volume == numbers.end() ? 0 : volume->second);
        // Into the columns that the list has, in their order.
        std::vector<std::string> fields(list.columns.size());
        for (std::size_t i = 0; i < fields.size(); ++i) {
            const auto column = std::find(pick_columns().begin(), pick_columns().end(), list.columns[i]);
            if (column != pick_columns().end())
                fields[i] = row[static_cast<std::size_t>(column - pick_columns().begin())];
        }
        list.picks.push_back({0, name, c.id, std::move(fields)});
        ++added;
        return true;
    }));
    return added;
}

Result<std::uint64_t> remove_picks(PickList& list, const Catalog& catalog, const Selection& selection) {
    const std::string name = catalog.path().filename().string();
    std::set<std::int64_t> selected;
    DREDGER_CHECK(catalog.each(selection, Order{}, false, [&](const Candidate& c) {
        selected.insert(c.id);
        return true;
    }));
    return std::erase_if(
        list.picks, [&](const PickList::Pick& pick) { return pick.catalog == name && selected.contains(pick.id); });
}

Result<std::vector<PickTrouble>> check_picks(const PickList& list, const Catalog& catalog) {
    const auto lines = list.lines_of(catalog.path().filename().string());
    const auto path_column = std::find(list.columns.begin(), list.columns.end(), "path");
    const auto path_at = static_cast<std::size_t>(path_column - list.columns.begin());
    std::map<std::int64_t, std::string> paths;
    Selection all;
    all.states = {};
    for (const auto& [id, line] : lines) all.only.insert(id);
    std::vector<PickTrouble> troubles;
    if (lines.empty()) return troubles;
    DREDGER_CHECK(catalog.each(all, Order{}, false, [&](const Candidate& c) {
        paths[c.id] = c.record.path();
        return true;
    }));
    for (const PickList::Pick& pick : list.picks) {
        if (!lines.contains(pick.id) || pick.catalog != catalog.path().filename().string()) continue;
        const auto found = paths.find(pick.id);
        if (found == paths.end())
            troubles.push_back({pick.line, fmt::format("{} has no candidate {}", pick.catalog, pick.id)});
        else if (path_at < pick.fields.size() && !pick.fields[path_at].empty() &&
                 pick.fields[path_at] != valid_utf8(found->second))
            troubles.push_back({pick.line,
                                fmt::format("{} {} is {}, not {}: is it another catalog of that name?", pick.catalog,
                                            pick.id, found->second, pick.fields[path_at]),
                                false});
    }
    return troubles;
}

fs::path find_catalog(const std::string& name, const std::vector<fs::path>& given, const fs::path& list) {
    std::error_code failed;
    for (const fs::path& path : given)
        if (path.filename() == name) return path;
    for (const fs::path& folder : {list.parent_path(), fs::path()})
        if (fs::exists(folder / name, failed)) return folder / name;
    return {};
}

}  // namespace dredger

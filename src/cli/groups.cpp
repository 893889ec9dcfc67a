#include "cli/groups.h"

#include <algorithm>
#include <fmt/format.h>
#include <limits>

#include "base/csv.h"
#include "base/text.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

std::string capitals(std::string_view word) {
    std::string text(word);
    std::transform(text.begin(), text.end(), text.begin(),
                   [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c; });
    return text;
}

std::size_t default_depth(Grouping grouping) {
    return grouping == Grouping::date ? 2 : std::numeric_limits<std::size_t>::max();
}

// A group's name under the one that it lies in.
std::string title_of(const GroupTree::Group& group, Grouping grouping) {
    if (group.path.back().empty())
        return grouping == Grouping::folder ? "(top folder)" : grouping == Grouping::date ? "(no date)" : "(not known)";
    if (grouping == Grouping::date) return fmt::format("{}", fmt::join(group.path, "-"));
    return printable(group.path.back()) + (grouping == Grouping::folder ? "/" : "");
}

Table table_for(Grouping grouping) {
    std::vector<Table::Column> columns = {{"FILES", Table::Align::right},
                                          {.title = "SIZE", .align = Table::Align::right, .worth = 1}};
    for (const std::string_view band : kBandWords) columns.push_back({capitals(band), Table::Align::right});
    const auto word = kGroupingWords[static_cast<std::size_t>(grouping)];
    columns.push_back({grouping == Grouping::date ? "MODIFIED" : capitals(word)});
    columns.back().is_path = grouping == Grouping::folder || grouping == Grouping::medium;
    return Table(std::move(columns));
}

}  // namespace

void print_totals(const Totals& totals) {
    std::vector<std::string> parts;
    for (std::size_t band = 0; band < totals.bands.size(); ++band)
        if (totals.bands[band] > 0)
            parts.push_back(fmt::format("{} {}", count_text(totals.bands[band]), kBandWords[band]));
    tell("\n{}, {}{}{}\n", counted(totals.files, "file"), size_text(totals.bytes),
         parts.empty() ? "" : fmt::format(": {}", fmt::join(parts, ", ")),
         totals.folders > 0 ? "; " + counted(totals.folders, "folder") : "");
}

Result<std::uint64_t> print_groups(Grouping grouping, std::optional<std::size_t> depth, Form form,
                                   const std::function<Result<void>(const Catalog::GroupSink&)>& each) {
    GroupTree tree(depth.value_or(default_depth(grouping)));
    DREDGER_CHECK(each([&](GroupTree::Path path, const Totals& t) { tree.add(std::move(path), t); }));
    const std::uint64_t count = tree.all().files + tree.all().folders;
    if (form == Form::table && count == 0) return count;
    if (form == Form::csv) fmt::print("group,files,bytes,prospect,sound,patchy,faint,gone\r\n");
    Table table = table_for(grouping);
    for (const GroupTree::Group& group : tree.groups()) {
        const Totals& t = group.totals;
        if (t.files == 0) continue;  // folders that were empty
        const std::string path = fmt::format("{}", fmt::join(group.path, grouping == Grouping::date ? "-" : "/"));
        if (form == Form::jsonl) {
            Json object = json_of(t);
            object["group"] = path;
            object["prospect"] = t.prospect();
            print_line(object);
        } else if (form == Form::csv) {
            std::vector<std::string> row = {path, std::to_string(t.files), std::to_string(t.bytes),
                                            std::to_string(t.prospect())};
            for (const std::uint64_t in_band : t.bands) row.push_back(std::to_string(in_band));
            fmt::print("{}", csv_row(row));
        } else {
            std::vector<std::string> row = {count_text(t.files), size_text(t.bytes)};
            for (const std::uint64_t in_band : t.bands) row.push_back(in_band > 0 ? count_text(in_band) : "·");
            row.push_back(std::string(2 * (group.path.size() - 1), ' ') + title_of(group, grouping));
            table.add(std::move(row));
        }
    }
    if (form != Form::table) return count;
    table.print();
    print_totals(tree.all());
    return count;
}

}  // namespace dredger::cli

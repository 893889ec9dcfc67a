#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/csv.h"
#include "cli/commands.h"
#include "cli/selection_options.h"
#include "cli/table.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

using Json = nlohmann::ordered_json;

struct Options {
    std::vector<std::string> catalogs;
    SelectionOptions selection;
    std::string form = "table";
    std::string sort = "prospect";
    bool extents = false;
};

Json time_or_null(const std::optional<FileTime>& time) { return time ? Json(iso8601(*time)) : Json(nullptr); }
std::string time_or_nothing(const std::optional<FileTime>& time) { return time ? iso8601(*time) : ""; }

void print_json(const Candidate& c, const std::string& catalog, unsigned volume, bool extents) {
    Json object = {{"catalog", catalog},
                   {"id", c.id},
                   {"state", word_for(c.record.state)},
                   {"origin", word_for(c.record.origin)},
                   {"name", c.record.name},
                   {"path", c.record.path()},
                   {"folder", c.record.is_folder},
                   {"size", c.record.size},
                   {"kind", word_for(c.kind)},
                   {"format", c.format.empty() ? Json(nullptr) : Json(c.format)},
                   {"created", time_or_null(c.record.created)},
                   {"modified", time_or_null(c.record.modified)},
                   {"accessed", time_or_null(c.record.accessed)},
                   {"deleted", time_or_null(c.record.deleted)},
                   {"prospect", c.prospect.value},
                   {"band", word_for(c.prospect.band)},
                   {"check", word_for(c.prospect.check)},
                   {"reasons", c.prospect.reasons},
                   {"volume", volume}};
    if (extents) {
        Json list = Json::array();
        for (const Extent& extent : c.record.layout.extents)
            list.push_back({extent.is_stored() ? static_cast<std::int64_t>(extent.offset) : -1, extent.length});
        object["extents"] = std::move(list);
    }
    fmt::print("{}\n", object.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void print_csv(const Candidate& c, const std::string& catalog, unsigned volume) {
    fmt::print("{}", csv_row({catalog, std::to_string(c.id), std::string(word_for(c.record.state)),
                              std::string(word_for(c.record.origin)), std::to_string(c.prospect.value),
                              std::string(word_for(c.prospect.band)), std::string(word_for(c.prospect.check)),
                              std::string(word_for(c.kind)), c.format, std::to_string(c.record.size),
                              time_or_nothing(c.record.modified), time_or_nothing(c.record.created),
                              time_or_nothing(c.record.deleted), std::to_string(volume), c.record.path()}));
}

struct Totals {
    std::uint64_t files = 0, folders = 0, bytes = 0;
    std::uint64_t bands[4] = {};

    void add(const Candidate& c) {
        c.record.is_folder ? ++folders : ++files;
        bytes += c.record.size;
        if (!c.record.is_folder) ++bands[static_cast<std::size_t>(c.prospect.band)];
    }
    void print() const {
        std::vector<std::string> parts;
        for (std::size_t band = 0; band < 4; ++band)
            if (bands[band] > 0) parts.push_back(fmt::format("{} {}", count_text(bands[band]), kBandWords[band]));
        fmt::print("\n{}, {}{}", counted(files, "file"), size_text(bytes),
                   parts.empty() ? "" : fmt::format(": {}", fmt::join(parts, ", ")));
        if (folders > 0) fmt::print("; {}", counted(folders, "folder"));
        fmt::print("\n");
    }
};

int list(const Options& options) {
    const bool table_form = options.form == "table";
    if (options.form == "csv")
        fmt::print(
            "catalog,id,state,origin,prospect,band,check,kind,format,size,modified,created,deleted,volume,path\r\n");
    const bool several = options.catalogs.size() > 1;
    std::vector<Table::Column> columns = {
        {"ID", Table::Align::right},           {"PROSPECT"}, {"STATE"}, {"SIZE", Table::Align::right}, {"MODIFIED"},
        {"DELETED", Table::Align::left, true}, {"PATH"}};
    if (several) columns.insert(columns.begin(), {"CATALOG"});
    Table table(columns);
    Totals totals;
    for (const std::string& path : options.catalogs) {
        const auto catalog = Catalog::open(path);
        if (!catalog) return report(catalog.error());
        const auto selection = options.selection.selection_for(*catalog);
        if (!selection) return report(selection.error());
        const auto volumes = catalog->volumes();
        if (!volumes) return report(volumes.error());
        std::map<std::int64_t, unsigned> numbers;
        for (const ScannedVolume& volume : *volumes) {
            numbers[volume.id] = volume.place.number;
            if (!volume.done && table_form)
                warn(fmt::format("{}: the scan of volume {} is not finished", path, volume.place.number));
        }
        const std::string name = catalog->path().filename().string();
        const auto done = catalog->each(
            *selection, options.sort == "path" ? Sort::path : Sort::prospect, options.extents, [&](const Candidate& c) {
                totals.add(c);
                if (options.form == "jsonl") print_json(c, name, numbers[c.volume], options.extents);
                if (options.form == "csv") print_csv(c, name, numbers[c.volume]);
                if (!table_form) return true;
                std::vector<std::string> row = {std::to_string(c.id),
                                                meter(c.prospect),
                                                std::string(word_for(c.record.state)),
                                                c.record.is_folder ? "folder" : size_text(c.record.size),
                                                time_text(c.record.modified),
                                                time_text(c.record.deleted),
                                                printable(c.record.path()) + (c.record.is_folder ? "/" : "")};
                if (several) row.insert(row.begin(), name);
                table.add(std::move(row));
                return true;
            });
        if (!done) return report(done.error());
    }
    if (!table_form) return kDone;
    if (table.empty()) {
        fmt::print("{}\n",
                   options.selection.is_narrowed()
                       ? "Nothing in the catalog is selected. Leave out an option, or widen it; --state live shows "
                         "what is not deleted."
                       : "The catalog has no deleted files. dredger list CATALOG --state live shows what is there.");
        return kDone;
    }
    table.print();
    totals.print();
    return kDone;
}

}  // namespace

void add_list(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("list", "Show the finds, best prospect first");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalogs, "made by dredger scan")->required();
    command->add_option("--as", options->form, "table (default), jsonl, or csv, which is also a pick list")
        ->check(CLI::IsMember({"table", "jsonl", "csv"}));
    command->add_option("--sort", options->sort, "prospect (default) or path")
        ->check(CLI::IsMember({"prospect", "path"}));
    command->add_flag("--extents", options->extents, "with --as jsonl: where each piece lies on the medium");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger list card.dredge --kind picture --prospect 60..\n"
        "  dredger list card.dredge --folder \"Ringing logs\" --as csv > picks.csv");
    command->callback([options, &exit_code] { exit_code = list(*options); });
}

}  // namespace dredger::cli

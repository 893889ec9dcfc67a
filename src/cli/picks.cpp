// The pick lists: chosen finds, kept over several sessions and media.
#include "catalog/picks.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "catalog/attaching.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/opened.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
    std::string list, source;
    std::vector<std::string> catalogs;
    SelectionOptions selection;
    bool onto_same_drive = false, json = false;
    std::vector<fs::path> given() const { return {catalogs.begin(), catalogs.end()}; }
};

int change(Options options, bool adds) {
    options.selection.has_several_catalogs = options.catalogs.size() > 1;
    if (!options.selection.is_narrowed())
        return report({ErrorKind::usage, fmt::format("nothing says which finds to {}", adds ? "pick" : "take out"),
                       options.list, "select them: --id 7,12, --kind picture, or --prospect 0.. for all"});
    std::vector<Catalog> catalogs;
    for (const std::string& path : options.catalogs) {
        auto catalog = open_catalog(path);
        if (!catalog) return report(catalog.error());
        if (!options.onto_same_drive)
            if (const auto safe = refuse_danger(options.list, *catalog); !safe) return report(safe.error());
        catalogs.push_back(std::move(*catalog));
    }
    std::error_code failed;
    PickList list;
    if (!adds || fs::exists(options.list, failed)) {
        auto read = read_picks(options.list);
        if (!read) return report(read.error());
        list = std::move(*read);
    }
    // Lines that say nothing would be lost with the rewriting.
    for (const PickTrouble& trouble : list.troubles)
        warn(fmt::format("{}, line {}: {}; left out", options.list, trouble.line, printable(trouble.what)));
    std::uint64_t selected = 0, changed = 0, left = options.selection.limit.value_or(0);
    for (Catalog& catalog : catalogs) {
        const auto selection = choose_first(catalog, options.selection, options.source, left);
        if (!selection) return report(selection.error());
        const auto how_many = catalog.count(*selection);
        if (!how_many) return report(how_many.error());
        selected += static_cast<std::uint64_t>(*how_many);
        const auto count = adds ? add_picks(list, catalog, *selection) : remove_picks(list, catalog, *selection);
        if (!count) return report(count.error());
        changed += *count;
    }
    if (selected == 0) return nothing_selected(options.catalogs.front());
    if (const auto written = write_picks(options.list, list); !written) return report(written.error());
    tell("{} {} {}; {} in all, of {}\n", counted(changed, "find"), adds ? "added to" : "taken out of", options.list,
         count_text(list.picks.size()), counted(list.catalogs().size(), "catalog"));
    if (adds) tell_next(fmt::format("dredger restore --picks {} --to FOLDER", as_word(options.list)));
    return kDone;
}

int show(const Options& options) {
    const auto list = read_picks(options.list);
    if (!list) return report(list.error());
    if (list->picks.empty() && !options.json) {
        tell("Nothing is picked. Next: dredger picks add {} CATALOG, with what list would take\n",
             as_word(options.list));
        return kDone;
    }
    Table table({{"ID", Table::Align::right},
                 {"PROSPECT"},
                 {.title = "STATE", .worth = 4},
                 {.title = "SIZE", .align = Table::Align::right, .worth = 5},
                 {.title = "PATH", .is_path = true}});
    Json all = Json::array();
    // What the list itself says, where its catalog is not at hand.
    const auto noted = [&](const PickList::Pick& pick, const char* column) -> std::string {
        const auto at = std::find(list->columns.begin(), list->columns.end(), column) - list->columns.begin();
        const bool is_there = at < std::ssize(pick.fields) && !pick.fields[static_cast<std::size_t>(at)].empty();
        return is_there ? printable(pick.fields[static_cast<std::size_t>(at)]) : "-";
    };
    std::uint64_t files = 0, bytes = 0;
    for (const std::string& name : list->catalogs()) {
        const fs::path path = find_catalog(name, options.given(), options.list);
        table.add({"", styled(name, Style::bold), "", "", path.empty() ? "catalog not found" : ""});
        const auto catalog = path.empty() ? Result<Catalog>(fail(ErrorKind::usage, "")) : open_catalog(path);
        std::map<std::int64_t, unsigned> volumes;
        if (catalog)
            for (const ScannedVolume& volume : catalog->volumes().value_or(std::vector<ScannedVolume>()))
                volumes[volume.id] = volume.place.number;
        for (const PickList::Pick& pick : list->picks) {
            if (pick.catalog != name) continue;
            const auto found = catalog ? catalog->find(pick.id) : Result<std::optional<Candidate>>(std::nullopt);
            if (!found || !*found) {
                all.push_back({{"catalog", name},
                               {"id", pick.id},
                               {"path", noted(pick, "path")},
                               {"found", false},
                               {"catalog_found", catalog.has_value()}});
                table.add({std::to_string(pick.id), noted(pick, "prospect"), noted(pick, "state"), noted(pick, "size"),
                           catalog ? "no such find" : noted(pick, "path")});
                continue;
            }
            const Candidate& c = **found;
            ++files;
            bytes += c.record.size;
            Json object = json_of(c, name, volumes[c.volume]);
            object["found"] = true;
            all.push_back(std::move(object));
            table.add({std::to_string(c.id), meter(c.prospect), std::string(word_for(c.record.state)),
                       c.record.is_folder ? "folder" : size_text(c.record.size), printable(c.record.path())});
        }
    }
    if (options.json) {
        print_document({{"list", options.list}, {"picks", std::move(all)}});
        return kDone;
    }
    table.print();
    tell("\n{}, {}, of {}.\n", counted(files, "find"), size_text(bytes), counted(list->catalogs().size(), "catalog"));
    tell_next(fmt::format("dredger restore --picks {} --to FOLDER", as_word(options.list)));
    return kDone;
}

int check(const Options& options) {
    const auto list = read_picks(options.list);
    if (!list) return report(list.error());
    std::vector<PickTrouble> troubles = list->troubles;
    std::vector<std::string> media;
    for (const std::string& name : list->catalogs()) {
        const fs::path path = find_catalog(name, options.given(), options.list);
        auto catalog = path.empty() ? Result<Catalog>(fail(ErrorKind::usage, "it is not found")) : open_catalog(path);
        if (!catalog) {
            troubles.push_back(
                {list->lines_of(name).begin()->second, fmt::format("the catalog {}: {}", name, catalog.error().what)});
            continue;
        }
        const auto found = check_picks(*list, *catalog);
        if (!found) return report(found.error());
        troubles.insert(troubles.end(), found->begin(), found->end());
        const auto sources = catalog->sources();
        for (const ScannedSource& source : sources.value_or(std::vector<ScannedSource>())) {
            const auto opened = open_medium(source.path);
            const auto identity = opened ? identify(*opened) : Result<Identity>(fail(ErrorKind::unreadable, ""));
            const bool is_here = identity && compare(source.identity, *identity).same;
            media.push_back(fmt::format("{}: {} {}", name, source.path,
                                        is_here   ? "is attached"
                                        : !opened ? "is not attached"
                                                  : "is another medium now"));
        }
    }
    std::sort(troubles.begin(), troubles.end(),
              [](const PickTrouble& a, const PickTrouble& b) { return a.line < b.line; });
    for (const PickTrouble& trouble : troubles)
        fmt::print("{}, line {}: {}\n", options.list, trouble.line, printable(trouble.what));
    for (const std::string& medium : media) fmt::print("{}\n", printable(medium));
    fmt::print("{} of {}; {}\n", counted(list->picks.size(), "pick"), counted(list->catalogs().size(), "catalog"),
               troubles.empty() ? "every line names a find" : counted(troubles.size(), "line") + " to look at");
    return troubles.empty() ? kDone : kDoneInPart;
}

}  // namespace

void add_picks(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("picks", "Keep a list of chosen finds, over several sessions and media");
    command->require_subcommand(1);
    const auto add = [&](const char* name, const char* what, bool needs_catalog, bool selects, const char* examples,
                         auto run) {
        CLI::App* sub = command->add_subcommand(name, what);
        auto options = std::make_shared<Options>();
        sub->add_option("PICKS", options->list, "the list, a CSV file")->required();
        CLI::Option* catalogs =
            sub->add_option("CATALOG", options->catalogs,
                            needs_catalog ? "made by dredger scan" : "where it does not lie beside the list");
        if (needs_catalog) catalogs->required();
        if (std::string_view(name) == "show") sub->add_flag("--json", options->json, "as JSON (docs/json.md)");
        if (selects) {
            options->selection.add_to(*sub);
            sub->add_option("--source", options->source,
                            "with --contains or --similar: where the medium is now, if not where it was scanned")
                ->type_name("MEDIUM");
            sub->add_flag("--onto-same-drive", options->onto_same_drive,
                          "keep the list on the drive that is read, although that can destroy what is to be restored");
        }
        sub->footer(std::string("Examples:\n") + examples);
        sub->callback([options, run, &exit_code] { exit_code = run(*options); });
    };
    add("add", "Add finds to the list", true, true,
        "  dredger picks add nests.csv card.dredge --kind picture --prospect 60..\n"
        "  dredger picks add nests.csv office.dredge --id 7,12-40",
        [](const Options& options) { return change(options, true); });
    add("remove", "Take finds out of the list", true, true,
        "  dredger picks remove nests.csv card.dredge --prospect ..20\n"
        "  dredger picks remove nests.csv office.dredge --id 13",
        [](const Options& options) { return change(options, false); });
    add("show", "Show what is on the list", false, false,
        "  dredger picks show nests.csv\n"
        "  dredger picks show nests.csv catalogs/card.dredge",
        [](const Options& options) { return show(options); });
    add("check", "Tell which lines name nothing, and which media are attached", false, false,
        "  dredger picks check nests.csv\n"
        "  dredger picks check nests.csv catalogs/card.dredge",
        [](const Options& options) { return check(options); });
    command->footer(
        "Examples:\n"
        "  dredger picks add nests.csv card.dredge --kind picture\n"
        "  dredger picks show nests.csv\n"
        "  dredger restore --picks nests.csv --to /mnt/rescue");
}

}  // namespace dredger::cli

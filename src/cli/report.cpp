#include "reporting/report.h"

#include <CLI/CLI.hpp>
#include <chrono>
#include <fmt/chrono.h>
#include <fmt/format.h>

#include "catalog/attaching.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/terminal.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string catalog, to, restored, source, shop;
    SelectionOptions selection;
    bool onto_same_drive = false;
};

int write(const Options& options) {
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    auto selection = choose_first(*catalog, options.selection, options.source);
    if (!selection) return report(selection.error());
    if (!options.onto_same_drive)
        if (const auto safe = refuse_danger(options.to, *catalog); !safe) return report(safe.error());
    const auto selected = catalog->count(*selection);
    if (!selected) return report(selected.error());
    if (*selected == 0) return nothing_selected(options.catalog);
    const auto now = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto page = write_report(*catalog,
                                   {std::move(*selection), options.to, options.restored, DREDGER_VERSION,
                                    fmt::format("{:%Y-%m-%d %H:%M %Z}", fmt::localtime(now)), options.shop},
                                   observer);
    observer.line().clear();
    if (!page) return report(page.error());
    if (is_interrupted()) {
        fmt::print(stderr, "dredger: interrupted: {} says what is missing of it; run it again for all\n",
                   page->string());
        return kInterrupted;
    }
    tell(
        "Written to {}: report.html with all in one page, its figures as PNG and SVG, and the finds as DFXML.\n"
        "Open {} in a browser.\n",
        options.to, page->string());
    return kDone;
}

}  // namespace

void add_report(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("report", "Write a report on a catalog, with figures");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("--to", options->to, "folder for the report")->type_name("FOLDER")->required();
    command
        ->add_option("--restored", options->restored,
                     "a folder that dredger restore wrote: the report lists its files with their sums")
        ->type_name("FOLDER");
    command->add_option("--shop", options->shop, "whose report it is, for its head: the name of a shop")
        ->type_name("NAME");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "write to the drive that is read, although that can destroy what is to be restored");
    command
        ->add_option("--source", options->source,
                     "with --contains or --similar: where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger report card.dredge --to report\n"
        "  dredger report card.dredge --kind picture --restored rescue --to report");
    command->callback([options, &exit_code] { exit_code = write(*options); });
}

}  // namespace dredger::cli

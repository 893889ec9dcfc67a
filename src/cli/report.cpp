#include "reporting/report.h"

#include <CLI/CLI.hpp>
#include <chrono>
#include <fmt/chrono.h>
#include <fmt/format.h>

#include "cli/commands.h"
#include "cli/selection_options.h"
#include "cli/terminal.h"
#include "media/drives.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string catalog, to, restored;
    SelectionOptions selection;
};

int write(const Options& options) {
    const auto catalog = Catalog::open(options.catalog);
    if (!catalog) return report(catalog.error());
    auto selection = options.selection.selection_for(*catalog);
    if (!selection) return report(selection.error());
    const auto sources = catalog->sources();
    if (!sources) return report(sources.error());
    for (const ScannedSource& source : *sources)
        if (const std::string danger = writing_endangers(options.to, source.path); !danger.empty())
            return report({ErrorKind::unsafe, "writing here could destroy what is to be restored: " + danger,
                           options.to, "write to another drive"});
    const auto selected = catalog->count(*selection);
    if (!selected) return report(selected.error());
    if (*selected == 0) return nothing_selected(options.catalog);
    const auto now = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
    const auto page = write_report(*catalog, {std::move(*selection), options.to, options.restored, DREDGER_VERSION,
                                              fmt::format("{:%Y-%m-%d %H:%M} UTC", fmt::gmtime(now))});
    if (!page) return report(page.error());
    fmt::print(
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
    command->add_option("--to", options->to, "folder for the report")->required();
    command->add_option("--restored", options->restored,
                        "a folder that dredger restore wrote: the report lists its files with their sums");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger report card.dredge --to report\n"
        "  dredger report card.dredge --kind picture --restored rescue --to report");
    command->callback([options, &exit_code] { exit_code = write(*options); });
}

}  // namespace dredger::cli

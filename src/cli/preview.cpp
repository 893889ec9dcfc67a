#include "preview/preview.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "cli/commands.h"
#include "cli/selection_options.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string catalog, to, source;
    std::string sort = "prospect";
    std::uint64_t limit = 500;
    bool onto_same_drive = false, from_changed_source = false;
    SelectionOptions selection;
};

int preview_selection(const Options& options) {
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    auto selection = options.selection.selection_for(*catalog);
    if (!selection) return report(selection.error());
    const auto order = parse_order(options.sort);
    if (!order) return report(order.error());
    const auto all = catalog->totals(*selection);
    if (!all) return report(all.error());

    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto done =
        make_previews(*catalog,
                      {std::move(*selection),
                       *order,
                       options.limit,
                       {options.source, options.to, options.onto_same_drive, options.from_changed_source}},
                      observer);
    observer.line().clear();
    if (!done) return report(done.error());
    if (done->files == 0) return nothing_selected(options.catalog);
    fmt::print("{} looked at, {} with a picture, {}. Open {} in a browser.\n", counted(done->files, "find"),
               count_text(done->pictures), counted(done->sheets, "contact sheet"), done->page.string());
    if (done->failed > 0)
        fmt::print("{} could not be decoded within bounds: damaged, or made to do harm.\n",
                   counted(done->failed, "find"));
    if (done->files < all->files)
        fmt::print("There are {} more: --limit takes more of them, or a narrower selection the right ones.\n",
                   count_text(all->files - done->files));
    fmt::print(
        "Tick what is wanted on the page, download the pick list, and: dredger restore {} --picks picks.csv --to "
        "FOLDER\n",
        options.catalog);
    return done->interrupted ? kInterrupted : kDone;
}

}  // namespace

void add_preview(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("preview", "Show what finds look like, without restoring them");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("--to", options->to, "folder for the page, the pictures and the contact sheets")->required();
    command->add_option("--sort", options->sort, "as for dredger list: which come first")->check(taken_by(parse_order));
    command->add_option("--limit", options->limit, "how many finds (500)")->check(CLI::PositiveNumber);
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "write to the drive that is read, although that can destroy what is to be restored");
    command->add_flag("--from-changed-source", options->from_changed_source,
                      "read a medium that is not the one scanned");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger preview card.dredge --to look\n"
        "  dredger preview card.dredge --kind picture --prospect ..87 --sort modified --to doubtful");
    command->callback([options, &exit_code] { exit_code = preview_selection(*options); });
}

}  // namespace dredger::cli

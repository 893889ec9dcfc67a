#include "preview/preview.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "preview/confinement.h"
#include "preview/decoders.h"

namespace dredger::cli {
namespace {

constexpr std::uint64_t kMostFinds = 500;  // on a page, where --limit asks for no other number

struct Options {
    std::string catalog, to, source;
    bool onto_same_drive = false, from_changed_source = false, json = false;
    SelectionOptions selection;
};

int preview_selection(const Options& options) {
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    auto chosen = choose(*catalog, options.selection, options.source);
    if (!chosen) return report(chosen.error());
    if (chosen->interrupted) return kInterrupted;
    const auto all = catalog->totals(chosen->selection);
    if (!all) return report(all.error());

    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto done =
        make_previews(*catalog,
                      {std::move(chosen->selection),
                       options.selection.order(),
                       options.selection.limit.value_or(kMostFinds),
                       {options.source, options.to, options.onto_same_drive, options.from_changed_source}},
                      observer);
    observer.line().clear();
    if (!done) return report(done.error());
    if (done->files == 0) return nothing_selected(options.catalog);
    for (const std::string& what : preview::missing_decoders()) warn(what);
    for (const std::string& what : preview::confinement_lacks()) note(what);
    if (options.json) {
        print_document({{"page", done->page.string()},
                        {"files", done->files},
                        {"looked_at", done->looked_at},
                        {"pictures", done->pictures},
                        {"failed", done->failed},
                        {"sheets", done->sheets},
                        {"copies", done->copies},
                        {"more", all->files - done->files - done->copies},
                        {"interrupted", done->interrupted}});
        return done->interrupted ? kInterrupted : kDone;
    }
    if (done->interrupted)
        fmt::print(stderr,
                   "dredger: interrupted: {} of {} were looked at, and the page says so; run it again for all\n",
                   count_text(done->looked_at), counted(done->files, "find"));
    tell("{} looked at, {} with a picture, {}. Open {} in a browser.\n", counted(done->looked_at, "find"),
         count_text(done->pictures), counted(done->sheets, "contact sheet"), done->page.string());
    if (done->failed > 0)
        tell("{} could not be decoded within bounds: damaged, or made to do harm.\n", counted(done->failed, "find"));
    if (const std::uint64_t more = all->files - done->files - done->copies; more > 0)
        tell("There are {} more: --limit takes more of them, or a narrower selection the right ones.\n",
             count_text(more));
    tell("Tick what is wanted on the page, download the pick list, and:\n");
    tell_next(fmt::format("dredger restore {} --picks picks.csv --to FOLDER", as_word(options.catalog)), "  ");
    return done->interrupted ? kInterrupted : kDone;
}

}  // namespace

void add_preview(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("preview", "Show what finds look like, without restoring them");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("--to", options->to, "folder for the page, the pictures and the contact sheets")
        ->type_name("FOLDER")
        ->required();
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "write to the drive that is read, although that can destroy what is to be restored");
    command->add_flag("--from-changed-source", options->from_changed_source,
                      "read a medium that is not the one scanned");
    command->add_flag("--json", options->json, "tell how it went as JSON (docs/json.md)");
    options->selection.add_to(*command, SelectionOptions::Sorts::rows);
    command->footer(
        "Examples:\n"
        "  dredger preview card.dredge --to look\n"
        "  dredger preview card.dredge --kind picture --prospect ..87 --sort modified --to doubtful");
    command->callback([options, &exit_code] { exit_code = preview_selection(*options); });
}

}  // namespace dredger::cli

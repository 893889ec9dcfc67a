#include "restoring/restore.h"

#include <fmt/format.h>

#include "cli/commands.h"
#include "cli/selection_options.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

struct Options {
    std::string catalog, to, source;
    std::string if_exists = "number";
    SelectionOptions selection;
    bool dry_run = false, onto_same_drive = false, from_changed_source = false;
};

class RestoreLines final : public TerminalObserver<RestoreObserver> {
  public:
    explicit RestoreLines(bool every_item) : every_item_(every_item) {}

    void item(const RestoredItem& item) override {
        const bool told = item.outcome == Outcome::partial || item.outcome == Outcome::failed;
        if (!every_item_ && !told) return;
        line().clear();
        fmt::print("{:<9} {:>10}  {}{}\n", word_for(item.outcome),
                   item.candidate.record.is_folder ? "folder" : size_text(item.candidate.record.size),
                   printable(item.relative.string()),
                   item.why.empty() ? "" : fmt::format("  ({})", printable(item.why)));
    }

  private:
    bool every_item_;
};

int restore_selection(const Options& options) {
    auto catalog = Catalog::open(options.catalog);
    if (!catalog) return report(catalog.error());
    RestoreRequest request;
    auto selection = options.selection.selection_for(*catalog);
    if (!selection) return report(selection.error());
    request.selection = std::move(*selection);
    request.destination = options.to;
    request.if_exists = options.if_exists == "skip"      ? IfExists::skip
                        : options.if_exists == "replace" ? IfExists::replace
                                                         : IfExists::number;
    request.dry_run = options.dry_run;
    request.source = options.source;
    request.onto_same_drive = options.onto_same_drive;
    request.from_changed_source = options.from_changed_source;

    catch_interrupts();
    RestoreLines observer(options.dry_run);
    const auto done = restore(*catalog, request, observer);
    observer.line().clear();
    if (!done) return report(done.error());
    const auto count = [&](Outcome outcome) { return done->counts[static_cast<std::size_t>(outcome)]; };
    if (done->files + done->folders == 0) return nothing_selected(options.catalog);
    if (options.dry_run) {
        fmt::print("\nNothing was written. {} and {}, {}, would go to {}\n", counted(done->files, "file"),
                   counted(done->folders, "folder"), size_text(done->bytes), options.to);
        return kDone;
    }
    std::vector<std::string> parts;
    for (const Outcome outcome :
         {Outcome::whole, Outcome::doubtful, Outcome::partial, Outcome::skipped, Outcome::already, Outcome::failed})
        if (count(outcome) > 0) parts.push_back(fmt::format("{} {}", count_text(count(outcome)), word_for(outcome)));
    fmt::print("{} and {} selected: {}. {} written to {}\n", counted(done->files, "file"),
               counted(done->folders, "folder"), fmt::join(parts, ", "), size_text(done->written), options.to);
    if (count(Outcome::doubtful) > 0)
        fmt::print(
            "Doubtful: all bytes were read, but not all are believed to be the file's own; restore.log and "
            "manifest.csv tell which.\n");
    fmt::print("Check the copies at any time: cd {} && sha256sum -c SHA256SUMS\n", options.to);
    if (done->stopped) return report(*done->stopped), kDoneInPart;
    if (done->interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    return count(Outcome::failed) + count(Outcome::partial) + count(Outcome::skipped) > 0 ? kDoneInPart : kDone;
}

}  // namespace

void add_restore(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("restore", "Write chosen finds to another drive, with names, folders and dates");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("--to", options->to, "folder to write to; on another drive than the source")->required();
    command->add_option("--if-exists", options->if_exists, "number (default), skip or replace")
        ->check(CLI::IsMember({"number", "skip", "replace"}));
    command->add_flag("--dry-run", options->dry_run, "show what would be written where, and write nothing");
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "allow a destination on the drive that is read; it may overwrite what is restored");
    command->add_flag("--from-changed-source", options->from_changed_source,
                      "allow a medium that is not the one scanned");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger restore card.dredge --kind picture --prospect 60.. --to /mnt/rescue\n"
        "  dredger restore card.dredge --picks picks.csv --to /mnt/rescue --dry-run\n"
        "\nLeaves manifest.csv, SHA256SUMS and restore.log in the destination. Run again, it goes on where it was "
        "stopped.");
    command->callback([options, &exit_code] { exit_code = restore_selection(*options); });
}

}  // namespace dredger::cli

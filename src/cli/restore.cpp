#include "restoring/restore.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <iostream>
#include <unistd.h>

#include "catalog/picks.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"
#include "restoring/mailboxes.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
    std::vector<std::string> catalogs, sources, after;
    std::string to, rename;
    std::string sums = "sha256", layout = "tree", if_exists = "number", partials = "keep", names = "auto", mail = "eml";
    SelectionOptions selection;
    bool as_original = false;
    bool dry_run = false, verify = false, onto_same_drive = false, from_changed_source = false;
    bool volume_folders = false, json = false;
};

class RestoreLines final : public TerminalObserver<RestoreObserver> {
  public:
    enum class Says { what_is_odd, every_item, nothing };
    explicit RestoreLines(Says says) : says_(says) {}

    void item(const RestoredItem& item) override {
        const bool told = item.outcome == Outcome::partial || item.outcome == Outcome::failed;
        note(fmt::format("{}: {}{}", word_for(item.outcome), printable(item.relative.string()),
                         item.why.empty() ? "" : "; " + printable(item.why)));
        if (says_ == Says::nothing || (says_ == Says::what_is_odd && (!told || manner().quiet))) return;
        line().clear();
        const std::string before =
            fmt::format("{:<9} {:>10}  ", word_for(item.outcome),
                        item.candidate.record.is_folder ? "folder" : size_text(item.candidate.record.size));
        const std::size_t room = width_of_stdout() - std::min(width_of_stdout(), before.size());
        fmt::print("{}{}\n", before, shortened_path(printable(item.relative.string()), room));
        if (!item.why.empty()) tell("{}{}\n", std::string(before.size(), ' '), printable(item.why));
    }

    std::optional<fs::path> missing_medium(const MissingMedium& medium) override {
        if (::isatty(STDIN_FILENO) == 0 || ::isatty(STDERR_FILENO) == 0) return std::nullopt;
        line().clear();
        std::string known = size_text(medium.source.identity.size);
        if (!medium.source.identity.serial.empty()) known += ", serial " + medium.source.identity.serial;
        fmt::print(stderr,
                   "{} of {} lie on a medium that is not here ({}):\n  scanned as {}, {}\n"
                   "Attach it and press Enter, or type where it is now; \"no\" goes on without it: ",
                   counted(medium.files, "file"), medium.catalog.filename().string(), medium.why.what,
                   medium.source.path, known);
        (void)std::fflush(stderr);
        std::string answer;
        if (!std::getline(std::cin, answer) || is_interrupted() || answer == "no") return std::nullopt;
        return fs::path(answer);
    }

  private:
    Says says_;
};

// The catalogs to restore from: those named, or those that the pick list names.
Result<std::vector<Catalog>> open_catalogs(const Options& options, bool& in_part) {
    std::vector<Catalog> catalogs;
    if (options.selection.picks.empty()) {
        for (const std::string& path : options.catalogs) {
            DREDGER_TRY(Catalog catalog, open_catalog(path));
            catalogs.push_back(std::move(catalog));
        }
        return catalogs;
    }
    DREDGER_TRY(const PickList list, read_picks(options.selection.picks));
    if (list.picks.empty() && list.troubles.empty())
        return fail(ErrorKind::usage, "nothing is picked", options.selection.picks,
                    fmt::format("dredger picks add {} CATALOG, with what list would take", options.selection.picks));
    const std::vector<fs::path> given(options.catalogs.begin(), options.catalogs.end());
    const auto tell = [&](const PickTrouble& trouble) {
        warn(fmt::format("{}, line {}: {}", options.selection.picks, trouble.line, printable(trouble.what)));
        in_part = in_part || trouble.names_nothing;
    };
    for (const PickTrouble& trouble : list.troubles) tell(trouble);
    for (const std::string& name : list.catalogs()) {
        const bool is_left_out = !given.empty() && std::none_of(given.begin(), given.end(), [&](const fs::path& p) {
            return p.filename() == name;
        });
        if (is_left_out) continue;  // who names catalogs means these
        const fs::path path = find_catalog(name, given, options.selection.picks);
        if (path.empty()) {
            tell({list.lines_of(name).begin()->second,
                  fmt::format("the catalog {} is not found; name it on the command line", name)});
            continue;
        }
        DREDGER_TRY(Catalog catalog, open_catalog(path));
        DREDGER_TRY(const auto troubles, check_picks(list, catalog));
        for (const PickTrouble& trouble : troubles) tell(trouble);
        catalogs.push_back(std::move(catalog));
    }
    return catalogs;
}

// "PATH" for the only catalog, or "NAME.dredge=PATH".
fs::path source_for(const Catalog& catalog, const Options& options) {
    const std::string name = catalog.path().filename().string() + "=";
    for (const std::string& source : options.sources) {
        if (source.starts_with(name)) return source.substr(name.size());
        if (options.sources.size() == 1 && source.find(".dredge=") == source.npos) return source;
    }
    return {};
}

Result<RestoreRequest> request_for(const Options& options) {
    RestoreRequest request;
    request.destination = options.to;
    request.arrangement = word_in<Arrangement>(options.layout, kArrangementWords);
    request.if_exists = word_in<IfExists>(options.if_exists, kIfExistsWords);
    request.partials = word_in<Partials>(options.partials, kPartialsWords);
    if (!options.rename.empty()) {
        DREDGER_TRY(request.rename, Pattern::parse(options.rename));
    }
    if (options.names != "auto") request.names = options.names == "windows" ? kWindowsNames : kUnixNames;
    request.beyond = {options.after.begin(), options.after.end()};
    request.sums = word_in<SumKind>(options.sums, kSumKindWords);
    request.as_original = options.as_original || !options.selection.as_of.empty();
    request.volume_folders = options.volume_folders;
    request.verify = options.verify;
    request.dry_run = options.dry_run;
    request.onto_same_drive = options.onto_same_drive;
    request.from_changed_source = options.from_changed_source;
    return request;
}

// Files of which nothing is left are not restored unless somebody asks for them: what stands in their place is
// another's. How many of the selection these are.
Result<std::uint64_t> leave_out_gone(const SelectionOptions& options, const Catalog& catalog, Selection& selection) {
    if (options.says_how_much_is_left()) return 0;
    selection.bands = {Band::gone};
    DREDGER_TRY(const std::int64_t gone, catalog.count(selection));
    selection.bands = {Band::sound, Band::patchy, Band::faint};
    return static_cast<std::uint64_t>(gone);
}

void say(const RestoreReport& done, std::uint64_t left_out, const Options& options) {
    std::vector<std::string> parts;
    for (const Outcome outcome :
         {Outcome::whole, Outcome::doubtful, Outcome::partial, Outcome::skipped, Outcome::already, Outcome::failed})
        if (done.count(outcome) > 0)
            parts.push_back(fmt::format("{} {}", count_text(done.count(outcome)), word_for(outcome)));
    if (parts.empty()) parts.emplace_back("nothing done");
    tell("{} and {} selected: {}. {} written to {}\n", counted(done.files, "file"), counted(done.folders, "folder"),
         fmt::join(parts, ", "), size_text(done.written), options.to);
    if (left_out > 0)
        tell("{} left out, of which nothing is left: the same command with --band gone takes what stands there.\n",
             counted(left_out, "file was", "files were"));
    if (done.count(Outcome::doubtful) > 0)
        tell(
            "Doubtful: all bytes were read, but not all are believed to be the file's own; restore.log and "
            "manifest.csv tell which.\n");
    if (options.partials == "aside" && done.count(Outcome::doubtful) + done.count(Outcome::partial) > 0)
        tell("What is not believed whole lies in {}/{}, each with a file that tells what is missing.\n", options.to,
             kAsideFolder);
    // Earlier runs may have made sums of another kind.
    for (std::size_t kind = 0; kind < std::size(kSumFiles); ++kind) {
        std::error_code failed;
        const auto size = fs::file_size(fs::path(options.to) / kSumFiles[kind], failed);
        if (!failed && size > 0)
            tell_next(fmt::format("cd {} && {}sum -c {}", as_word(options.to), kSumKindWords[kind], kSumFiles[kind]),
                      "Check the copies at any time: ");
    }
}

void print_json(const RestoreReport& done, std::uint64_t left_out, const Options& options) {
    Json object = {{"to", options.to},        {"dry_run", options.dry_run}, {"files", done.files},
                   {"folders", done.folders}, {"bytes", done.bytes},        {"written", done.written}};
    for (const Outcome outcome :
         {Outcome::whole, Outcome::doubtful, Outcome::partial, Outcome::skipped, Outcome::already, Outcome::failed})
        object[std::string(word_for(outcome))] = done.count(outcome);
    object["gone_left_out"] = left_out;
    object["missing_media"] = done.missing;
    object["spoiled"] = done.spoiled;
    object["interrupted"] = done.interrupted;
    print_document(object);
}

int add_mailboxes(const Options& options) {
    const auto written = write_mailboxes(options.to);
    if (!written) return report(written.error());
    for (const WrittenMailbox& mailbox : *written)
        if (!options.json)
            tell("{} in {}, for import into any mail program\n", counted(mailbox.messages, "message"),
                 printable(mailbox.place.string()));
    return kDone;
}

int restore_selection(Options options) {
    if (options.catalogs.empty() && options.selection.picks.empty())
        return report(
            {ErrorKind::usage, "a CATALOG or --picks FILE is needed", "", "dredger restore --help shows how"});
    const auto request = request_for(options);
    if (!request) return report(request.error());
    bool in_part = false;
    options.selection.has_several_catalogs = options.catalogs.size() > 1;
    auto catalogs = open_catalogs(options, in_part);
    if (!catalogs) return report(catalogs.error());
    std::vector<RestoreJob> jobs;
    std::uint64_t left_out = 0, left = options.selection.limit.value_or(0);
    for (Catalog& catalog : *catalogs) {
        auto chosen = choose(catalog, options.selection, source_for(catalog, options));
        if (!chosen) return report(chosen.error());
        if (chosen->interrupted) return kInterrupted;
        const auto gone = leave_out_gone(options.selection, catalog, chosen->selection);
        if (!gone) return report(gone.error());
        left_out += *gone;
        if (const auto kept = keep_first(catalog, options.selection, chosen->selection, left); !kept)
            return report(kept.error());
        jobs.push_back({&catalog, std::move(chosen->selection), source_for(catalog, options)});
    }

    catch_interrupts();
    using Says = RestoreLines::Says;
    RestoreLines observer(options.json ? Says::nothing : options.dry_run ? Says::every_item : Says::what_is_odd);
    const auto done = restore(jobs, *request, observer);
    observer.line().clear();
    if (!done) return report(done.error());
    if (done->files + done->folders == 0 && left_out > 0) {
        fmt::print(stderr,
                   "Of what is selected nothing is left ({}). The same command with --band gone restores what stands "
                   "in its place.\n",
                   counted(left_out, "file"));
        return kDoneInPart;
    }
    if (done->files + done->folders == 0)
        return nothing_selected(options.catalogs.empty() ? "CATALOG" : options.catalogs.front());
    for (const std::string& medium : done->missing) warn("left out: " + medium);
    for (const std::string& file : done->spoiled)
        warn(fmt::format("{} was not what was restored any more; what is selected is restored again", printable(file)));
    in_part = in_part || !done->missing.empty() || !done->spoiled.empty() || left_out > 0 ||
              done->count(Outcome::failed) + done->count(Outcome::partial) + done->count(Outcome::skipped) +
                      done->count(Outcome::doubtful) >
                  0;
    if (options.json) print_json(*done, left_out, options);
    if (options.dry_run) {
        if (options.json) return done->missing.empty() ? kDone : kDoneInPart;
        tell("\nNothing was written. {} and {}, {}, would go to {}\n", counted(done->files, "file"),
             counted(done->folders, "folder"), size_text(done->bytes), options.to);
        if (left_out > 0) tell("{} left out: nothing is left of them.\n", counted(left_out, "file is", "files are"));
        return done->missing.empty() ? kDone : kDoneInPart;
    }
    if (!options.json) say(*done, left_out, options);
    if (options.mail == "mbox" && !done->interrupted && !done->stopped)
        if (const int failed = add_mailboxes(options); failed != kDone) return failed;
    if (done->stopped) return report(*done->stopped), kDoneInPart;
    if (done->interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    return in_part ? kDoneInPart : kDone;
}

std::string help_on_fields() {
    std::string text = "Fields of --rename, in braces; {a|b} takes the first that says anything:\n";
    for (const auto& [name, meaning] : Pattern::fields()) text += fmt::format("  {:<10} {}\n", name, meaning);
    return text +
           "What is empty is left out, \"/\" makes folders, and without {name} or {ext} the original extension "
           "follows.\n"
           "Times are as `list` shows them.\n";
}

}  // namespace

void add_restore(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("restore", "Write chosen finds to another drive, with names, folders and dates");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalogs, "made by dredger scan; with --picks those that the list names");
    command->add_option("--to", options->to, "folder to write to; on another drive than the source")
        ->type_name("FOLDER")
        ->required();
    command->add_option("--layout", options->layout, "tree (default: the original folders), kind, date or flat")
        ->check(one_of(kArrangementWords));
    command->add_option("--rename", options->rename, "new names from a pattern, see below")->type_name("PATTERN");
    command
        ->add_option("--if-exists", options->if_exists,
                     "number (default), skip, replace, newer, or keep-best: the one that came back better, the same "
                     "content once")
        ->check(one_of(kIfExistsWords));
    command
        ->add_option("--partials", options->partials,
                     "what is not believed whole: keep (default), skip, or aside, into a folder of its own")
        ->check(one_of(kPartialsWords));
    command->add_option("--names", options->names, "auto (default: as the destination takes them), windows or unix")
        ->check(CLI::IsMember({"auto", "windows", "unix"}));
    command
        ->add_option("--sums", options->sums,
                     "sha256 (default), or xxh128: much quicker where the processor is the slow part")
        ->check(one_of(kSumKindWords));
    command
        ->add_option("--mail", options->mail,
                     "messages: eml (default), or mbox: also as one mailbox a folder, for import into mail programs")
        ->check(CLI::IsMember({"eml", "mbox"}));
    command->add_flag("--volume-folders", options->volume_folders,
                      "a folder above all for each volume, of several catalogs within one for each of these");
    command->add_flag("--as-original", options->as_original,
                      "safety copies take the names and places of their documents; an editor's swap becomes its text");
    command->add_flag("--verify", options->verify,
                      "read every file back from the destination, also those that earlier runs restored");
    command->add_flag("--dry-run", options->dry_run, "show what would be written where, and write nothing");
    command
        ->add_option("--after", options->after,
                     "a folder that an earlier run restored into: what is there is not restored again")
        ->type_name("FOLDER")
        ->allow_extra_args(false);
    command
        ->add_option("--source", options->sources,
                     "where the medium is now, if not where it was scanned; of several catalogs NAME.dredge=PATH")
        ->type_name("MEDIUM")
        ->allow_extra_args(false);
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "allow a destination on the drive that is read; it may overwrite what is restored");
    command->add_flag("--from-changed-source", options->from_changed_source,
                      "allow a medium that is not the one scanned");
    command->add_flag("--json", options->json, "tell how it went as JSON (docs/json.md)");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger restore card.dredge --kind picture --prospect 60.. --to /mnt/rescue\n"
        "  dredger restore --picks picks.csv --to /mnt/rescue --dry-run\n"
        "  dredger restore card.dredge --to /mnt/rescue --layout date --rename \"{taken:%d} {camera} {number:4}\"\n\n" +
        help_on_fields() +
        "\nLeaves manifest.csv, SHA256SUMS and restore.log in the destination. Run again, it goes on where it was "
        "stopped.");
    command->callback([options, &exit_code] { exit_code = restore_selection(*options); });
}

}  // namespace dredger::cli

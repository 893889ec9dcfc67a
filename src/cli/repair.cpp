#include "repairing/repair.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;
using repairing::Outcome;

struct Options {
    std::vector<std::string> sources, references;
    std::string to, source, look;
    bool json = false, onto_same_drive = false, from_changed_source = false;
    SelectionOptions selection;
};

Style style_of(Outcome outcome) {
    switch (outcome) {
        case Outcome::whole:
        case Outcome::mended: return Style::good;
        case Outcome::partly: return Style::fair;
        case Outcome::wants_reference: return Style::poor;
        case Outcome::beyond: break;
    }
    return Style::bad;
}

class RepairLines final : public TerminalObserver<RepairObserver> {
  public:
    explicit RepairLines(bool json) : json_(json) {}

    void item(const RepairedItem& item) override {
        line().clear();
        if (json_) {
            const nlohmann::ordered_json object = {{"file", item.file},     {"result", item.result},
                                                   {"format", item.format}, {"outcome", word_for(item.outcome)},
                                                   {"kept", item.kept},     {"of", item.of},
                                                   {"unit", item.unit},     {"sha256", item.sha256},
                                                   {"what", item.what}};
            fmt::print("{}\n", object.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
            return;
        }
        const std::string share =
            item.of == 0 ? "" : fmt::format("  {} of {} {}", count_text(item.kept), count_text(item.of), item.unit);
        fmt::print("{}  {}{}\n", styled(fmt::format("{:<17}", word_for(item.outcome)), style_of(item.outcome)),
                   printable(item.file), share);
        constexpr std::size_t kIndent = 19;
        if (!item.what.empty())
            fmt::print("{}\n", wrapped(std::string(kIndent, ' ') + printable(item.what),
                                       std::min<std::size_t>(width_of_stdout(), 120), kIndent));
    }

  private:
    bool json_;
};

// What came of the whole run.
void say(const RepairReport& done, const Options& options) {
    std::vector<std::string> parts;
    for (std::size_t i = 0; i < std::size(repairing::kOutcomeWords); ++i)
        if (done.outcomes[i] > 0)
            parts.push_back(fmt::format("{} {}", count_text(done.outcomes[i]), repairing::kOutcomeWords[i]));
    if (done.files + done.already > 0) {
        tell("{}: {}. Results and {} are in {}\n", counted(done.files, "file"),
             parts.empty() ? "nothing new" : fmt::format("{}", fmt::join(parts, ", ")), kRepairTable, options.to);
        if (done.already > 0) tell("{} already repaired there.\n", counted(done.already, "file was", "files were"));
        if (done.left_out > 0)
            tell("{} left out: of formats that can't be repaired.\n", counted(done.left_out, "file was", "files were"));
    } else if (done.left_out > 0) {
        tell("Nothing here is of a format that can be repaired; dredger kinds lists those that can.\n");
    }
    if (!done.page.empty()) tell("Before and after: open {} in a browser.\n", done.page.string());
    if (done.count(Outcome::wants_reference) > 0)
        tell("Where it says so, an undamaged file made in the same way helps: --reference FILE\n");
}

int repair_sources(const Options& options) {
    RepairRequest request;
    request.destination = options.to;
    request.look = options.look;
    request.references = {options.references.begin(), options.references.end()};
    std::vector<Catalog> catalogs;
    catalogs.reserve(options.sources.size());
    std::uint64_t left = options.selection.limit.value_or(0);
    for (const std::string& source : options.sources) {
        if (!source.ends_with(".dredge")) {
            request.files.emplace_back(source);
            continue;
        }
        auto catalog = open_catalog(source);
        if (!catalog) return report(catalog.error());
        auto selection = choose_first(*catalog, options.selection, options.source, left);
        if (!selection) return report(selection.error());
        catalogs.push_back(std::move(*catalog));
        request.finds.push_back(
            {&catalogs.back(),
             std::move(*selection),
             {options.source, options.to, options.onto_same_drive, options.from_changed_source, {options.look}}});
    }
    if (request.finds.empty() && options.selection.is_narrowed())
        return report({ErrorKind::usage, "a selection is of a catalog's finds, and no catalog is named", "",
                       "dredger repair --help shows how"});

    catch_interrupts();
    RepairLines observer(options.json);
    const auto done = repair(request, observer);
    observer.line().clear();
    if (!done) return report(done.error());
    for (const std::string& medium : done->missing) warn("left out: " + medium);
    const bool has_met_none = done->files + done->already + done->left_out == 0 && done->missing.empty();
    if (has_met_none && !done->interrupted && !done->stopped) {
        if (request.files.empty()) return nothing_selected(options.sources.front());
        tell("There are no files in {}. Next: dredger repair FILE_OR_FOLDER --to {}\n", options.sources.front(),
             options.to);
        return kUsage;
    }
    if (!options.json) say(*done, options);
    if (done->stopped) return report(*done->stopped), kDoneInPart;
    if (done->interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    const bool in_part = !done->missing.empty() || done->count(Outcome::partly) > 0 ||
                         done->count(Outcome::wants_reference) > 0 || done->count(Outcome::beyond) > 0;
    return in_part ? kDoneInPart : kDone;
}

}  // namespace

void add_repair(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("repair", "Mend damaged archives, documents, pictures and films into another folder");
    auto options = std::make_shared<Options>();
    command
        ->add_option("SOURCE", options->sources,
                     "damaged files, folders of them, or catalogs (NAME.dredge) whose finds are read from their medium")
        ->required();
    command->add_option("--to", options->to, "folder for the results and repairs.csv")->type_name("FOLDER")->required();
    command
        ->add_option("--reference", options->references,
                     "an undamaged file that was made in the same way: by the same camera with the same settings")
        ->type_name("FILE")
        ->allow_extra_args(false);
    command->add_option("--look", options->look, "folder for a page that shows files before and after")
        ->type_name("FOLDER");
    command->add_flag("--json", options->json, "an object a line for each file");
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "write to the drive that is read, although that can destroy what is to be repaired");
    command->add_flag("--from-changed-source", options->from_changed_source,
                      "read a medium that is not the one scanned");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger repair restored/photos --to mended\n"
        "  dredger repair film.mp4 --reference other-film-of-this-camera.mp4 --to mended\n"
        "  dredger repair card.dredge --kind picture,video --prospect ..87 --to mended");
    command->callback([options, &exit_code] { exit_code = repair_sources(*options); });
}

}  // namespace dredger::cli

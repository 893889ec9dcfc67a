#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "base/text.h"
#include "catalog/attaching.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "versions/life.h"

namespace dredger::cli {
namespace {

using versions::Life;
using versions::Lives;

struct Options {
    std::string catalog, source, form = "table";
    std::vector<std::int64_t> ids;
    SelectionOptions selection;
    std::size_t most = 5;  // documents whose lives are shown, and not only counted

    bool json = false;

    bool is_table() const { return form == "table" && !json; }
};

std::string change_text(const Life& life) {
    if (life.same_as != 0) return fmt::format("the same as {}", life.same_as);
    if (!life.change) return "";
    const Life::Change& change = *life.change;
    if (change.words_added) {
        if (*change.words_added + *change.words_removed == 0) return "the same words";
        return fmt::format("+{} -{} words", count_text(*change.words_added), count_text(*change.words_removed));
    }
    if (change.bytes == 0) return "other bytes";
    return fmt::format("{}{} bytes", change.bytes > 0 ? "+" : "-",
                       count_text(static_cast<std::uint64_t>(std::abs(change.bytes))));
}

void print_json(const Lives& document) {
    for (const Life& life : document.lives) {
        const Candidate& c = life.candidate;
        Json object = {
            {"of", document.path},
            {"id", c.id},
            {"what", versions::words_of(c)},
            {"role", c.copy.role == Role::none ? Json(nullptr) : Json(word_for(c.copy.role))},
            {"when", time_or_null(life.when)},
            {"state", word_for(c.record.state)},
            {"path", c.record.path()},
            {"size", c.record.size},
            {"prospect", c.prospect.value},
            {"band", word_for(c.prospect.band)},
            {"same_as", life.same_as == 0 ? Json(nullptr) : Json(life.same_as)},
            {"bytes_more", life.change ? Json(life.change->bytes) : Json(nullptr)},
            {"words_added", life.change && life.change->words_added ? Json(*life.change->words_added) : Json()},
            {"words_removed", life.change && life.change->words_removed ? Json(*life.change->words_removed) : Json()}};
        print_line(object);
    }
}

// ": opened by Jana" of a sentence that tells first by what the copy was recognised.
std::string what_it_says(const std::string& why) {
    const auto after = why.find("; ");
    return after == why.npos ? "" : ": " + printable(why.substr(after + 2));
}

void print_lives(const Lives& document) {
    fmt::print("{}\n", styled(printable(document.path), Style::bold));
    Table table({{"ID", Table::Align::right},
                 {"PROSPECT"},
                 {"WHEN"},
                 {"WHAT"},
                 {.title = "SIZE", .align = Table::Align::right, .worth = 3},
                 {.title = "AGAINST THE NEXT OLDER", .may_be_left_out = true, .worth = 2},
                 {.title = "PATH", .is_path = true}});
    for (const Life& life : document.lives) {
        const Candidate& c = life.candidate;
        const std::string change = change_text(life);
        table.add({std::to_string(c.id), meter(c.prospect), time_text(life.when), versions::words_of(c),
                   size_text(c.record.size), change.empty() ? "-" : change,
                   c.copy.role == Role::none ? "" : printable(c.record.path())});
    }
    table.print(2);
    for (const Candidate& note : document.notes)
        tell("  {} {} ({}){}\n", word_for(note.copy.role), note.id, word_for(note.record.state),
             what_it_says(note.copy.why));
    fmt::print("\n");
}

void print_counts(const std::vector<Catalog::Document>& documents) {
    Table table({{"LIVES", Table::Align::right}, {"NOW"}, {.title = "DOCUMENT", .is_path = true}});
    for (const Catalog::Document& document : documents)
        table.add({count_text(document.lives), document.is_live ? "there" : "gone", printable(document.path)});
    table.print();
}

// The documents of these finds, or of which they are copies.
Result<std::vector<Catalog::Document>> documents_of(const Catalog& catalog, const std::vector<std::int64_t>& ids) {
    std::vector<Catalog::Document> documents;
    for (const std::int64_t id : ids) {
        DREDGER_TRY(const auto found, catalog.find(id));
        if (!found)
            return fail(ErrorKind::usage, fmt::format("there is no find {}", id), catalog.path().string(),
                        "dredger list shows the IDs");
        documents.push_back({found->copy.of.empty() ? found->record.path() : found->copy.of, 0, 0, false});
    }
    return documents;
}

int show(const Options& options) {
    auto catalog = open_catalog(options.catalog);
    if (!catalog) return report(catalog.error());
    auto selection = choose_first(*catalog, options.selection, options.source);
    if (!selection) return report(selection.error());
    if (options.selection.state.empty()) selection->states = {};
    const auto documents =
        options.ids.empty() ? catalog->documents_with_lives(*selection) : documents_of(*catalog, options.ids);
    if (!documents) return report(documents.error());
    if (documents->empty()) {
        if (options.is_table())
            tell(
                "No document that is selected has more than one life here: no safety copy of it, no earlier state.\n"
                "dredger list {} --role autosave,temporary,backup,history,swap shows copies of which the document is "
                "not "
                "known.\n",
                as_word(options.catalog));
        return kDone;
    }
    if (options.is_table() && documents->size() > options.most) {
        print_counts(*documents);
        tell("\n{} with more than one life.\n", counted(documents->size(), "document"));
        tell_next(fmt::format("dredger versions {} --name {}", as_word(options.catalog),
                              as_word(std::string(split_path(documents->front().path).name))));
        return kDone;
    }
    catch_interrupts();
    TerminalObserver<Observer> observer;
    std::map<std::int64_t, MediumPtr> media;
    if (auto attached = attach(*catalog, {options.source, {}, false, false}))
        media = std::move(attached->media);
    else
        warn(fmt::format("contents are not compared: {}", attached.error().line()));
    for (const Catalog::Document& document : *documents) {
        const auto lives = versions::lives_of(*catalog, document.path, media, observer);
        observer.line().clear();
        if (!lives) return report(lives.error());
        if (options.is_table())
            print_lives(*lives);
        else
            print_json(*lives);
        if (is_interrupted()) return kInterrupted;
    }
    if (options.is_table())
        tell_next(fmt::format("dredger restore {} --id ID --as-original --to FOLDER", as_word(options.catalog)));
    return kDone;
}

}  // namespace

void add_versions(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("versions", "Show all lives of a document: autosaves, backups, snapshots");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalog, "made by dredger scan")->required();
    command->add_option("ID", options->ids,
                        "of the document or of one of its copies; without it those that are selected");
    command->add_option("--as", options->form, "table (default), or jsonl: a life a line")
        ->check(CLI::IsMember({"table", "jsonl"}));
    command->add_flag("--json", options->json, "the same as --as jsonl");
    command->add_option("--most", options->most, "documents whose lives are shown one by one (default 5)")
        ->check(CLI::PositiveNumber);
    command->add_option("--source", options->source, "where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger versions office.dredge\n"
        "  dredger versions office.dredge --name 'Season report*'\n"
        "  dredger versions office.dredge 17\n"
        "\nThe newest life comes first. docs/lives.md says which copies are known, and by what.");
    command->callback([options, &exit_code] { exit_code = show(*options); });
}

}  // namespace dredger::cli

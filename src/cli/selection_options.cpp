#include "cli/selection_options.h"

#include <fmt/format.h>

#include "catalog/picks.h"
#include "cli/terminal.h"

namespace dredger::cli {
namespace {

// Puts what an option's words mean in its place, or names the option in the error.
template <class Parsed, class Target>
Result<void> put(const char* option, const std::string& text, Parsed (*parse)(std::string_view), Target& target) {
    if (text.empty()) return {};
    auto parsed = parse(text);
    if (!parsed) {
        Error error = std::move(parsed).error();
        error.what = std::string(option) + ": " + error.what;
        return tl::unexpected<Error>(std::move(error));
    }
    target = std::move(*parsed);
    return {};
}

// The ids that a pick list names for the catalog with this file name.
Result<std::set<std::int64_t>> picked(const std::string& file, const std::string& catalog) {
    DREDGER_TRY(const PickList list, read_picks(file));
    std::set<std::int64_t> ids;
    for (const auto& [id, line] : list.lines_of(catalog)) ids.insert(id);
    if (ids.empty()) ids.insert(0);  // picks nothing of this catalog
    return ids;
}

}  // namespace

void SelectionOptions::add_to(CLI::App& command) {
    const std::string group = "Selection";
    command.add_option("--state", state, "deleted,trashed,lost,live (default: all but live)")->group(group);
    command.add_option("--origin", origin, "record,remnant,signature: how it was found")->group(group);
    command.add_option("--kind", kind, "picture,video,audio,document,archive,mail,database,other")->group(group);
    command
        .add_option("--role", role,
                    "autosave,temporary,owner note,backup,history,swap,cache,piece,hidden: what it is to another file, "
                    "live ones "
                    "too; none: a file in its own right")
        ->group(group);
    command.add_option("--format", format, "jpeg,docx,mp4 ...: one level finer than --kind")->group(group);
    command.add_option("--ext", ext, "jpg,docx ...: file name extensions")->group(group);
    command.add_option("--name", names, "file name; * and ? stand for others; letter case is ignored")
        ->group(group)
        ->allow_extra_args(false);
    command.add_option("--folder", folders, "original folder, and all below it; * and ? as above")
        ->group(group)
        ->allow_extra_args(false);
    command.add_option("--size", size, "10K..20M, 5M.. or ..1G")->group(group);
    command.add_option("--id", ids, "7,12-40")->group(group);
    command.add_option("--modified", modified, "2026-05-01..2026-05-31, 2026-05.. or ..2025")->group(group);
    command.add_option("--created", created, "as --modified")->group(group);
    command.add_option("--deleted", deleted, "as --modified")->group(group);
    command
        .add_option(
            "--as-of", as_of,
            "2026-05-01 or 2026-05-01T10:00: of each document the state that it had then, from whatever keeps it")
        ->group(group);
    command.add_option("--prospect", prospect, "60.. or 20..80")->group(group);
    command.add_option("--check", check, "verified,plausible,damaged,unknown: what the content itself says")
        ->group(group);
    command.add_option("--picks", picks, "only what this pick list names (list --as csv writes one)")->group(group);
}

Result<Selection> SelectionOptions::selection_for(const Catalog& catalog) const {
    Selection s;
    // Who names a file by its number means it, whatever its state.
    if (state.empty() && (!ids.empty() || !picks.empty())) s.states = {};
    // What programs left of a document is wanted because the document is gone, not the copy.
    if (state.empty() && !role.empty() && role != word_for(Role::none)) s.states = {};
    DREDGER_CHECK(put("--state", state, parse_states, s.states));
    DREDGER_CHECK(put("--origin", origin, parse_origins, s.origins));
    DREDGER_CHECK(put("--check", check, parse_checks, s.checks));
    DREDGER_CHECK(put("--kind", kind, parse_kinds, s.kinds));
    DREDGER_CHECK(put("--role", role, parse_roles, s.roles));
    DREDGER_CHECK(put("--format", format, parse_formats, s.formats));
    DREDGER_CHECK(put("--id", ids, parse_ids, s.ids));
    DREDGER_CHECK(put("--size", size, parse_sizes, s.size));
    DREDGER_CHECK(put("--modified", modified, parse_times, s.modified));
    DREDGER_CHECK(put("--created", created, parse_times, s.created));
    DREDGER_CHECK(put("--deleted", deleted, parse_times, s.deleted));
    DREDGER_CHECK(put("--prospect", prospect, parse_prospects, s.prospect));
    s.extensions = parse_words(ext);
    s.names = names;
    s.folders = folders;
    if (!picks.empty()) {
        if (!ids.empty()) return fail(ErrorKind::usage, "--id and --picks can't go together", "", "use one of them");
        DREDGER_TRY(s.only, picked(picks, catalog.path().filename().string()));
    }
    if (!as_of.empty()) {
        const auto moment = parse_time(as_of);
        if (!moment)
            return fail(ErrorKind::usage, fmt::format("--as-of: {} is no day or moment", as_of), "",
                        "write it like 2026-05-01 or 2026-05-01T10:00");
        if (state.empty()) s.states = {};
        DREDGER_TRY(std::set<std::int64_t> chosen, catalog.as_of(s, moment->last));
        if (chosen.empty()) chosen.insert(0);  // picks nothing
        s = Selection();
        s.states = {};
        s.only = std::move(chosen);
    }
    return s;
}

bool SelectionOptions::is_narrowed() const {
    for (const std::string* text : {&state, &origin, &kind, &role, &format, &ext, &size, &ids, &modified, &created,
                                    &deleted, &prospect, &check, &picks, &as_of})
        if (!text->empty()) return true;
    return !names.empty() || !folders.empty();
}

int nothing_selected(const std::string& catalog) {
    fmt::print("Nothing is selected. dredger list {} with the same options shows what they select.\n", catalog);
    return kUsage;
}

}  // namespace dredger::cli

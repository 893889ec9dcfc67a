#include "cli/selection_options.h"

#include <algorithm>
#include <filesystem>
#include <fmt/format.h>

#include "base/text.h"
#include "catalog/picks.h"
#include "cli/manner.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"

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

// The volumes of a catalog that these words name: by number or label, and by the path of their medium.
Result<std::set<std::int64_t>> volumes_of(const Catalog& catalog, const std::vector<std::string>& words,
                                          const std::vector<std::string>& media) {
    DREDGER_TRY(const auto all, catalog.volumes());
    DREDGER_TRY(const auto sources, catalog.sources());
    const auto is_on = [&](const ScannedVolume& volume, const std::string& medium) {
        return std::any_of(sources.begin(), sources.end(), [&](const ScannedSource& source) {
            return source.id == volume.source && folded(source.path).find(folded(medium)) != std::string::npos;
        });
    };
    std::set<std::int64_t> chosen;
    std::set<std::string> unused(words.begin(), words.end());
    for (const ScannedVolume& volume : all) {
        bool is_named = words.empty();
        for (const std::string& word : words) {
            const bool fits = word == std::to_string(volume.place.number) || folded(word) == folded(volume.facts.label);
            if (fits) unused.erase(word);
            is_named = is_named || fits;
        }
        const bool is_there = media.empty() || std::any_of(media.begin(), media.end(), [&](const std::string& medium) {
                                  return is_on(volume, medium);
                              });
        if (is_named && is_there) chosen.insert(volume.id);
    }
    if (!unused.empty() || chosen.empty()) {
        std::vector<std::string> known;
        for (const ScannedVolume& volume : all)
            known.push_back(volume.facts.label.empty()
                                ? std::to_string(volume.place.number)
                                : fmt::format("{} ({})", volume.place.number, volume.facts.label));
        return fail(
            ErrorKind::usage,
            unused.empty() ? "no volume lies on such a medium" : fmt::format("there is no volume {}", *unused.begin()),
            catalog.path().string(), fmt::format("it has the volumes {}", fmt::join(known, ", ")));
    }
    return chosen;
}

// The mail store that is this find, as far as it is among `chosen`; empty: all are.
Result<std::set<std::int64_t>> volumes_in(const Catalog& catalog, std::int64_t find,
                                          const std::set<std::int64_t>& chosen) {
    DREDGER_TRY(const auto all, catalog.volumes());
    std::set<std::int64_t> within;
    for (const ScannedVolume& volume : all)
        if (volume.find == find && (chosen.empty() || chosen.contains(volume.id))) within.insert(volume.id);
    if (within.empty())
        return fail(ErrorKind::usage, fmt::format("--in: nothing that was read lies in find {}", find),
                    catalog.path().string(), "dredger scan --mail reads the mail stores that it finds");
    return within;
}

// Who types one number that is nobody's has mistyped it.
Result<void> check_ids(const Catalog& catalog, const std::vector<Range>& ids) {
    for (const Range& range : ids) {
        Selection one;
        one.states = {};
        one.ids = {range};
        DREDGER_TRY(const std::int64_t count, catalog.count(one));
        if (count == 0)
            return fail(ErrorKind::usage,
                        fmt::format("--id: there is no find {}{}", *range.from,
                                    *range.to == *range.from ? "" : fmt::format("-{}", *range.to)),
                        catalog.path().string(), "dredger list shows the IDs");
    }
    return {};
}

std::vector<std::filesystem::path> paths_of(const std::vector<ScannedSource>& sources) {
    std::vector<std::filesystem::path> paths;
    for (const ScannedSource& source : sources) paths.emplace_back(source.path);
    return paths;
}

}  // namespace

void SelectionOptions::add_to(CLI::App& command, Sorts sorts) {
    const std::string group = kSelectionGroup;
    sorts_ = sorts;
    command.add_option("--state", state, "deleted, trashed, lost, live (default: all but live)")
        ->check(several_of(kStateWords))
        ->group(group);
    command.add_option("--origin", origin, "record, remnant, signature: how it was found")
        ->check(several_of(kOriginWords))
        ->group(group);
    command.add_option("--kind", kind, "picture, video, audio, document, archive, mail, database, other")
        ->check(several_of(kKindWords))
        ->group(group);
    command
        .add_option(
            "--role", role,
            "autosave, temporary, owner note, backup, history, swap, cache, piece, hidden: what it is to another "
            "file, live ones too; none: a file in its own right")
        ->check(several_of(kRoleWords))
        ->group(group);
    command.add_option("--format", format, "jpeg,docx,mp4 ...: one level finer than --kind")
        ->type_name("FORMATS")
        ->group(group);
    command.add_option("--ext", ext, "jpg,docx ...: file name extensions")->type_name("EXTENSIONS")->group(group);
    command
        .add_option("--name", names,
                    "a part of the file name; with * or ?, which stand for others, all of it; letter case is ignored")
        ->type_name("NAME")
        ->group(group)
        ->allow_extra_args(false);
    command
        .add_option("--folder", folders,
                    "a part of an original folder's name, or a path with /; with all below it; * and ? as above")
        ->type_name("PATH")
        ->group(group)
        ->allow_extra_args(false);
    command.add_option("--size", size, "10K..20M, 5M.. or ..1G")->type_name("RANGE")->group(group);
    command.add_option("--id", ids, "7,12-40")->type_name("NUMBERS")->group(group);
    command
        .add_option("--modified", modified,
                    "2026-05-01..2026-05-31, 2026-05.., ..2025, yesterday, or 3d..: of the last three days")
        ->type_name("TIMES")
        ->group(group);
    command.add_option("--created", created, "as --modified")->type_name("TIMES")->group(group);
    command.add_option("--deleted", deleted, "as --modified")->type_name("TIMES")->group(group);
    command
        .add_option(
            "--as-of", as_of,
            "2026-05-01 or 2026-05-01T10:00: of each document the state that it had then, from whatever keeps it")
        ->type_name("TIME")
        ->group(group);
    command.add_option("--prospect", prospect, "60.. or 20..80")->type_name("RANGE")->group(group);
    command.add_option("--band", band, "sound, patchy, faint, gone: the prospect in a word")
        ->check(several_of(kBandWords))
        ->group(group);
    command.add_option("--check", check, "verified, plausible, damaged, unknown: what the content itself says")
        ->check(several_of(kCheckWords))
        ->group(group);
    command.add_option("--volume", volumes, "number or label of a volume; may be repeated")
        ->type_name("VOLUME")
        ->group(group)
        ->allow_extra_args(false);
    command.add_option("--medium", media, "a part of the path of a medium that was scanned; may be repeated")
        ->type_name("PATH")
        ->group(group)
        ->allow_extra_args(false);
    command.add_option("--in", in, "only what lies in the mail store that is the find with this ID")
        ->type_name("ID")
        ->check(CLI::PositiveNumber)
        ->group(group);
    for (const auto& [option, texts, what] :
         {std::tuple("--from-address", &senders, "a part of the name or address that a message is from"),
          std::tuple("--to-address", &recipients, "the same of one that it is to"),
          std::tuple("--subject", &subjects, "a part of its subject")})
        command
            .add_option(option, *texts,
                        fmt::format("messages: {}; live ones too; * and ? as above; may be repeated", what))
            ->group(group)
            ->allow_extra_args(false);
    command.add_option("--sent", sent, "messages: when they were sent, as --modified; live ones too")
        ->type_name("TIMES")
        ->group(group);
    command
        .add_flag("--housekeeping", housekeeping,
                  "also what systems keep for themselves: allocation tables, bins' notes, page files")
        ->group(group);
    command.add_option("--picks", picks, "only what this pick list names (list --as csv writes one)")
        ->type_name("FILE")
        ->group(group);
    command
        .add_option("--contains", contains,
                    "only files that have this text in them: as it stands, or within office documents, mail and PDF; "
                    "letter case is ignored")
        ->group(group);
    command
        .add_option("--similar", similar,
                    "only what is like the find with this ID: pictures that look alike, copies, and files of its name")
        ->type_name("ID")
        ->check(CLI::PositiveNumber)
        ->group(group);
    command
        .add_option("--sort", sort,
                    std::string("prospect (default), path, name, size, modified, created, deleted or kind; -size and "
                                "so on: the other way round") +
                        (sorts == Sorts::rows ? "" : "; with --limit"))
        ->check(taken_by(parse_order))
        ->group(group);
    command.add_option("--limit", limit, "only so many, the first of this order")
        ->check(CLI::PositiveNumber)
        ->group(group);
}

Order SelectionOptions::order() const { return sort.empty() ? Order{} : parse_order(sort).value_or(Order{}); }

Result<void> SelectionOptions::check_together() const {
    if (in && has_several_catalogs)
        return fail(ErrorKind::usage, "--in goes with one catalog", "", "name the one that has the find");
    if (similar && has_several_catalogs)
        return fail(ErrorKind::usage, "--similar goes with one catalog", "", "name the one that has the find");
    if (sorts_ == Sorts::only_a_limit && !sort.empty() && !limit)
        return fail(ErrorKind::usage, "--sort says nothing here without --limit", "",
                    "add --limit, or leave --sort out");
    return {};
}

Result<Selection> SelectionOptions::selection_for(const Catalog& catalog) const {
    DREDGER_CHECK(check_together());
    Selection s;
    // Who names a file by its number means it, whatever its state.
    if (state.empty() && (!ids.empty() || !picks.empty())) s.states = {};
    // What programs left of a document is wanted because the document is gone, not the copy.
    if (state.empty() && !role.empty() && role != word_for(Role::none)) s.states = {};
    for (const std::string& glob : senders) s.senders.push_back(name_glob(glob));
    for (const std::string& glob : recipients) s.recipients.push_back(name_glob(glob));
    for (const std::string& glob : subjects) s.subjects.push_back(name_glob(glob));
    DREDGER_CHECK(put("--sent", sent, parse_times, s.sent));
    // A message is missed where somebody looks for it, wherever it lies.
    if (state.empty() && (s.asks_for_mail() || in)) s.states = {};
    DREDGER_CHECK(put("--state", state, parse_states, s.states));
    DREDGER_CHECK(put("--origin", origin, parse_origins, s.origins));
    DREDGER_CHECK(put("--check", check, parse_checks, s.checks));
    DREDGER_CHECK(put("--band", band, parse_bands, s.bands));
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
    for (const std::string& name : names) s.names.push_back(name_glob(name));
    for (const std::string& folder : folders)
        for (std::string& glob : folder_globs(folder)) s.folders.push_back(std::move(glob));
    if (!volumes.empty() || !media.empty()) {
        DREDGER_TRY(s.volumes, volumes_of(catalog, volumes, media));
    }
    if (in) {
        DREDGER_TRY(s.volumes, volumes_in(catalog, *in, s.volumes));
    }
    if (!has_several_catalogs) DREDGER_CHECK(check_ids(catalog, s.ids));
    s.without_housekeeping = !housekeeping && ids.empty() && picks.empty();
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
                                    &deleted, &prospect, &band, &check, &picks, &as_of, &sent})
        if (!text->empty()) return true;
    if (!senders.empty() || !recipients.empty() || !subjects.empty() || in) return true;
    return !names.empty() || !folders.empty() || !volumes.empty() || !media.empty() || reads_content() || limit;
}

bool SelectionOptions::says_how_much_is_left() const {
    return !ids.empty() || !picks.empty() || !prospect.empty() || !band.empty();
}

Result<Catalog> open_catalog(const std::string& name) {
    std::error_code failed;
    const std::string longer = name + ".dredge";
    const bool is_short = !std::filesystem::exists(name, failed) && std::filesystem::exists(longer, failed);
    DREDGER_TRY(Catalog catalog, Catalog::open(is_short ? longer : name));
    DREDGER_TRY(const auto sources, catalog.sources());
    DREDGER_CHECK(open_log(paths_of(sources)));
    return catalog;
}

int nothing_selected(const std::string& catalog) {
    fmt::print(stderr, "Nothing is selected. dredger list {} shows what there is; leave out an option, or widen it.\n",
               as_word(catalog));
    return kDoneInPart;
}

}  // namespace dredger::cli

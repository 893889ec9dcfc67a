#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <limits>
#include <unistd.h>

#include "base/csv.h"
#include "catalog/attaching.h"
#include "catalog/picks.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/selection_options.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "media/content.h"
#include "preview/searching.h"
#include "preview/similar.h"

namespace dredger::cli {
namespace {

struct Options {
    std::vector<std::string> catalogs;
    SelectionOptions selection;
    std::string form = "table";
    std::string sort;
    std::string group;
    std::optional<std::size_t> depth;
    std::uint64_t from = 1;
    std::optional<std::uint64_t> limit;
    bool extents = false;
    std::string contains, source;
    std::optional<std::int64_t> similar;
    bool every_copy = false;

    bool is_table() const { return form == "table"; }
};

constexpr std::uint64_t kRowsAtOnce = 1000;  // of a table, where nothing else is asked for

void print_json(const Candidate& c, const std::string& catalog, unsigned volume, bool extents) {
    Json object = {{"catalog", catalog},
                   {"id", c.id},
                   {"state", word_for(c.record.state)},
                   {"origin", word_for(c.record.origin)},
                   {"name", c.record.name},
                   {"path", c.record.path()},
                   {"folder", c.record.is_folder},
                   {"size", c.record.size},
                   {"kind", word_for(c.kind)},
                   {"format", c.format.empty() ? Json(nullptr) : Json(c.format)},
                   {"role", c.copy.role == Role::none ? Json(nullptr) : Json(word_for(c.copy.role))},
                   {"of", c.copy.of.empty() ? Json(nullptr) : Json(c.copy.of)},
                   {"as_of", time_or_null(c.copy.as_of)},
                   {"created", time_or_null(c.record.created)},
                   {"modified", time_or_null(c.record.modified)},
                   {"accessed", time_or_null(c.record.accessed)},
                   {"deleted", time_or_null(c.record.deleted)},
                   {"prospect", c.prospect.value},
                   {"band", word_for(c.prospect.band)},
                   {"check", word_for(c.prospect.check)},
                   {"reasons", c.prospect.reasons},
                   {"volume", volume}};
    if (extents) {
        Json list = Json::array();
        for (const LayoutExtent& extent : c.layout.extents) {
            Json one = {extent.is_stored() ? Json(extent.offset) : Json(word_for(extent.held)), extent.length};
            if (extent.is_stored())
                if (const std::string_view packing = packing_of(c.layout, extent); !packing.empty())
                    one.push_back(packing);
            list.push_back(std::move(one));
        }
        object["extents"] = std::move(list);
    }
    fmt::print("{}\n", object.dump(-1, ' ', false, Json::error_handler_t::replace));
}

// The finds of one catalog and what the rows say of it.
struct Opened {
    Catalog catalog;
    Selection selection;
    std::string name;
    std::map<std::int64_t, unsigned> volume_numbers;
    std::map<std::int64_t, MediumPtr> media;  // by volume, where contents are looked into
    std::vector<Similar> similar;             // the likest first
};

// Those that are like a given find, instead of all that are selected.
Result<void> keep_similar(Opened& from, const Options& options) {
    DREDGER_TRY(const auto wanted, from.catalog.find(*options.similar));
    if (!wanted)
        return fail(ErrorKind::usage, fmt::format("there is no candidate {}", *options.similar),
                    from.catalog.path().string(), "dredger list shows the IDs");
    catch_interrupts();
    TerminalObserver<Observer> observer;
    auto similar = similar_to(from.catalog, from.media, *wanted, from.selection, observer);
    observer.line().clear();
    if (!similar) return tl::unexpected<Error>(similar.error());
    if (is_interrupted()) warn("interrupted: not all pictures were looked at");
    from.similar = std::move(*similar);
    const std::set<std::int64_t> picked = std::exchange(from.selection.only, {-1});  // where nothing is like it
    for (const Similar& one : from.similar)
        if (picked.empty() || picked.contains(one.candidate)) from.selection.only.insert(one.candidate);
    return {};
}

Result<Opened> opened(const std::string& path, const Options& options) {
    DREDGER_TRY(Catalog catalog, open_catalog(path));
    DREDGER_TRY(Selection selection, options.selection.selection_for(catalog));
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::map<std::int64_t, unsigned> numbers;
    for (const ScannedVolume& volume : volumes) {
        numbers[volume.id] = volume.place.number;
        if (!volume.done && options.is_table())
            warn(fmt::format("{}: the scan of volume {} is not finished", path, volume.place.number));
    }
    std::string name = catalog.path().filename().string();
    Opened opened{std::move(catalog), std::move(selection), std::move(name), std::move(numbers), {}, {}};
    if (!options.contains.empty() || options.similar) {
        std::set<std::int64_t> all;
        for (const ScannedVolume& volume : volumes) all.insert(volume.id);
        DREDGER_TRY(Attached attached, attach(opened.catalog, all, {options.source, {}, false, false}));
        opened.media = std::move(attached.media);
    }
    if (options.similar) DREDGER_CHECK(keep_similar(opened, options));
    return opened;
}

// Those of the selection that have the text in them, and their totals; the rest of it is looked through, too.
Result<Totals> search(Opened& from, const Options& options, const Order& order, Page page,
                      const std::function<bool(const Candidate&)>& visit) {
    catch_interrupts();
    ProgressLine line;
    Totals totals;
    DREDGER_TRY(const Totals all, from.catalog.totals(from.selection));
    std::uint64_t looked_at = 0;
    DREDGER_CHECK(from.catalog.each(from.selection, order, true, [&](const Candidate& c) {
        line.show({"looking into files", ++looked_at, all.files + all.folders, "files", totals.files, {}});
        const auto medium = from.media.find(c.volume);
        if (c.record.is_folder || c.record.size == 0 || c.layout.empty() || medium == from.media.end())
            return !is_interrupted();
        const auto content = open_content(medium->second, c.layout, c.record.size);
        if (preview::contains(*content, c, options.contains)) {
            totals.add(Totals::of_one(false, c.prospect.band, c.record.size, c.prospect.value));
            if (totals.files > page.skip && (!page.most || totals.files <= page.skip + *page.most)) visit(c);
        }
        return !is_interrupted();
    }));
    line.clear();
    if (is_interrupted())
        warn(fmt::format("interrupted: {} of {} files were looked into", count_text(looked_at),
                         count_text(all.files + all.folders)));
    return totals;
}

void print_totals(const Totals& totals) {
    std::vector<std::string> parts;
    for (std::size_t band = 0; band < totals.bands.size(); ++band)
        if (totals.bands[band] > 0)
            parts.push_back(fmt::format("{} {}", count_text(totals.bands[band]), kBandWords[band]));
    fmt::print("\n{}, {}{}", counted(totals.files, "file"), size_text(totals.bytes),
               parts.empty() ? "" : fmt::format(": {}", fmt::join(parts, ", ")));
    if (totals.folders > 0) fmt::print("; {}", counted(totals.folders, "folder"));
    fmt::print("\n");
}

void say_nothing_found(const Options& options) {
    if (options.similar) {
        fmt::print(stderr,
                   "Nothing that is selected is like {}. dredger list CATALOG --sort name puts like names together.\n",
                   *options.similar);
        return;
    }
    fmt::print(stderr, "{}\n",
               options.selection.is_narrowed() || !options.contains.empty()
                   ? "Nothing in the catalog is selected. Leave out an option, or widen it; --state live shows "
                     "what is not deleted."
                   : "The catalog has no deleted files. dredger list CATALOG --state live shows what is there.");
}

std::string why_of(const Opened& from, std::int64_t id) {
    const auto found =
        std::find_if(from.similar.begin(), from.similar.end(), [&](const Similar& one) { return one.candidate == id; });
    return found == from.similar.end() ? "" : found->why;
}

Result<void> show_similar(const Opened& from, Page page, const std::function<bool(const Candidate&)>& visit) {
    std::uint64_t at = 0;
    for (const Similar& one : from.similar) {
        if (at++ < page.skip || (page.most && at > page.skip + *page.most)) continue;
        DREDGER_TRY(const auto candidate, from.catalog.find(one.candidate));
        if (candidate) visit(*candidate);
    }
    return {};
}

// Several catalogs are listed one behind the other, each in order; a page counts through all of them.
// How many there are in all.
Result<std::uint64_t> list_rows(std::vector<Opened>& catalogs, const Options& options) {
    if (options.form == "csv") fmt::print("{}", csv_row(pick_columns()));
    std::vector<Table::Column> columns = {
        {"ID", Table::Align::right},        {"PROSPECT"}, {"STATE"},
        {"SIZE", Table::Align::right},      {"MODIFIED"}, {"DELETED", Table::Align::left, true},
        {"ROLE", Table::Align::left, true}, {"PATH"}};
    const bool several = catalogs.size() > 1;
    DREDGER_TRY(const Order order, parse_order(options.sort.empty() ? "prospect" : options.sort));
    std::vector<Catalog::Copies> copies(catalogs.size());
    std::uint64_t further = 0;
    if (options.is_table() && !options.every_copy && !options.similar && options.contains.empty())
        for (std::size_t i = 0; i < catalogs.size(); ++i) {
            DREDGER_TRY(copies[i], catalogs[i].catalog.copies(catalogs[i].selection, order));
            further += copies[i].further.size();
        }
    if (further > 0) columns.insert(columns.end() - 1, {"COPIES", Table::Align::right});
    if (options.similar) columns.insert(columns.end() - 1, {"HOW ALIKE"});
    if (several) columns.insert(columns.begin(), {"CATALOG"});
    Table table(columns);
    Page page{options.from > 0 ? options.from - 1 : 0, options.limit};
    if (!page.most && options.is_table()) page.most = kRowsAtOnce;
    const std::uint64_t skipped = page.skip;
    Totals all;
    std::uint64_t shown = 0;
    for (std::size_t i = 0; i < catalogs.size(); ++i) {
        Opened& from = catalogs[i];
        std::uint64_t here = 0;
        const auto show = [&](const Candidate& c) {
            ++here;
            const unsigned volume = from.volume_numbers[c.volume];
            if (options.form == "jsonl") print_json(c, from.name, volume, options.extents);
            if (options.form == "csv") {
                std::vector<std::string> fields = pick_row(c, from.name, volume);
                // A file keeps names as they are; a terminal would do what they say.
                if (::isatty(STDOUT_FILENO) != 0)
                    for (std::string& field : fields) field = printable(field);
                fmt::print("{}", csv_row(fields));
            }
            if (!options.is_table()) return true;
            std::vector<std::string> row = {std::to_string(c.id),
                                            meter(c.prospect),
                                            std::string(word_for(c.record.state)),
                                            c.record.is_folder ? "folder" : size_text(c.record.size),
                                            time_text(c.record.modified),
                                            time_text(c.record.deleted),
                                            c.copy.role == Role::none ? "-" : std::string(word_for(c.copy.role)),
                                            printable(c.record.path()) + (c.record.is_folder ? "/" : "")};
            if (further > 0) {
                const auto same = copies[i].count.find(c.id);
                row.insert(row.end() - 1, same == copies[i].count.end() ? "" : count_text(same->second));
            }
            if (options.similar) row.insert(row.end() - 1, why_of(from, c.id));
            if (several) row.insert(row.begin(), from.name);
            table.add(std::move(row));
            return true;
        };
        Totals totals;
        Selection shown_ones = from.selection;
        shown_ones.without = copies[i].further;
        if (options.similar && options.sort.empty()) {
            DREDGER_TRY(totals, from.catalog.totals(from.selection));
            DREDGER_CHECK(show_similar(from, page, show));
        } else if (!options.contains.empty()) {
            DREDGER_TRY(totals, search(from, options, order, page, show));
        } else {
            DREDGER_TRY(totals, from.catalog.totals(from.selection));
            DREDGER_CHECK(from.catalog.each(shown_ones, order, options.extents, show, page));
        }
        all.add(totals);
        shown += here;
        if (page.most) *page.most -= here;
        page.skip -= std::min(page.skip, totals.files + totals.folders - copies[i].further.size());
    }
    const std::uint64_t count = all.files + all.folders;
    if (!options.is_table() || count == 0) return count;
    if (!table.empty()) table.print();
    if (shown == 0) fmt::print("There are {} finds: --from {} is behind the last.\n", count_text(count), options.from);
    print_totals(all);
    if (further > 0)
        fmt::print("{} with the same content {} counted, not shown: --every-copy lists them, too.\n",
                   counted(further, "further copy", "further copies"), further == 1 ? "is" : "are");
    if (shown > 0 && shown < count - further)
        fmt::print("Shown: {} to {}.{}\n", count_text(skipped + 1), count_text(skipped + shown),
                   skipped + shown < count - further
                       ? fmt::format(" Go on with --from {}, or show more at once with --limit.", skipped + shown + 1)
                       : "");
    return count;
}

std::size_t default_depth(Grouping grouping) {
    return grouping == Grouping::date ? 2 : std::numeric_limits<std::size_t>::max();
}

// A group's name under the one that it lies in.
std::string title_of(const GroupTree::Group& group, Grouping grouping) {
    if (group.path.back().empty())
        return grouping == Grouping::folder ? "(top folder)" : grouping == Grouping::date ? "(no date)" : "(not known)";
    if (grouping == Grouping::date) return fmt::format("{}", fmt::join(group.path, "-"));
    return printable(group.path.back()) + (grouping == Grouping::folder ? "/" : "");
}

Result<std::uint64_t> list_groups(std::vector<Opened>& catalogs, const Options& options) {
    const auto word = std::find(std::begin(kGroupingWords), std::end(kGroupingWords), options.group);
    const auto grouping = static_cast<Grouping>(word - std::begin(kGroupingWords));
    GroupTree tree(options.depth.value_or(default_depth(grouping)));
    for (Opened& from : catalogs)
        DREDGER_CHECK(from.catalog.each_group(
            from.selection, grouping, [&](GroupTree::Path path, const Totals& t) { tree.add(std::move(path), t); }));
    const std::uint64_t count = tree.all().files + tree.all().folders;
    if (options.is_table() && count == 0) return count;
    if (options.form == "csv") fmt::print("group,files,bytes,prospect,sound,patchy,faint,gone\r\n");
    std::vector<Table::Column> columns = {{"FILES", Table::Align::right}, {"SIZE", Table::Align::right}, {"PROSPECT"}};
    for (const std::string_view band : kBandWords) {
        std::string title(band);
        std::transform(title.begin(), title.end(), title.begin(),
                       [](char c) { return static_cast<char>(c - 'a' + 'A'); });
        columns.push_back({title, Table::Align::right});
    }
    columns.push_back({grouping == Grouping::medium   ? "MEDIUM"
                       : grouping == Grouping::folder ? "FOLDER"
                       : grouping == Grouping::date   ? "MODIFIED"
                       : grouping == Grouping::kind   ? "KIND"
                                                      : "FORMAT"});
    Table table(columns);
    for (const GroupTree::Group& group : tree.groups()) {
        const Totals& t = group.totals;
        if (t.files == 0) continue;  // folders that were empty
        const std::string path = fmt::format("{}", fmt::join(group.path, grouping == Grouping::date ? "-" : "/"));
        if (options.form == "jsonl") {
            const Json object = {
                {"group", path},       {"files", t.files},     {"bytes", t.bytes},    {"prospect", t.prospect()},
                {"sound", t.bands[0]}, {"patchy", t.bands[1]}, {"faint", t.bands[2]}, {"gone", t.bands[3]}};
            fmt::print("{}\n", object.dump(-1, ' ', false, Json::error_handler_t::replace));
        } else if (options.form == "csv") {
            fmt::print("{}",
                       csv_row({path, std::to_string(t.files), std::to_string(t.bytes), std::to_string(t.prospect()),
                                std::to_string(t.bands[0]), std::to_string(t.bands[1]), std::to_string(t.bands[2]),
                                std::to_string(t.bands[3])}));
        } else {
            std::vector<std::string> row = {count_text(t.files), size_text(t.bytes),
                                            meter(Prospect{t.prospect(), t.band(), Check::unknown, {}})};
            for (const std::uint64_t in_band : t.bands) row.push_back(in_band > 0 ? count_text(in_band) : "·");
            row.push_back(std::string(2 * (group.path.size() - 1), ' ') + title_of(group, grouping));
            table.add(std::move(row));
        }
    }
    if (!options.is_table()) return count;
    table.print();
    print_totals(tree.all());
    return count;
}

// Options that say something of what is not asked for are a mistake of who typed them.
Result<void> check_together(const Options& options) {
    const auto goes_with = [](const char* option, const char* other) {
        return fail(ErrorKind::usage, fmt::format("{} says nothing without {}", option, other), "",
                    fmt::format("add {}, or leave {} out", other, option));
    };
    if (options.depth && options.group.empty()) return goes_with("--depth", "--group");
    if (options.extents && options.form != "jsonl") return goes_with("--extents", "--as jsonl");
    if (!options.source.empty() && options.contains.empty() && !options.similar)
        return goes_with("--source", "--contains or --similar");
    if (options.similar && (options.catalogs.size() > 1 || !options.contains.empty() || !options.group.empty()))
        return fail(ErrorKind::usage, "--similar goes with one catalog, and not with --contains or --group", "",
                    "leave the others out");
    if (!options.group.empty() && !options.contains.empty())
        return fail(ErrorKind::usage, "--group and --contains can't go together", "", "use one of them");
    return {};
}

int list(Options options) {
    if (const auto together = check_together(options); !together) return report(together.error());
    options.selection.has_several_catalogs = options.catalogs.size() > 1;
    std::vector<Opened> catalogs;
    for (const std::string& path : options.catalogs) {
        auto one = opened(path, options);
        if (!one) return report(one.error());
        catalogs.push_back(std::move(*one));
    }
    const auto count = options.group.empty() ? list_rows(catalogs, options) : list_groups(catalogs, options);
    if (!count) return report(count.error());
    if (is_interrupted()) return kInterrupted;
    if (*count == 0) say_nothing_found(options);
    return *count > 0 ? kDone : kDoneInPart;
}

}  // namespace

void add_list(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("list", "Show the finds, best prospect first");
    auto options = std::make_shared<Options>();
    command->add_option("CATALOG", options->catalogs, "made by dredger scan")->required();
    command->add_option("--as", options->form, "table (default), jsonl, or csv, which is also a pick list")
        ->check(CLI::IsMember({"table", "jsonl", "csv"}));
    command
        ->add_option("--sort", options->sort,
                     "prospect (default), path, name, size, modified, created, deleted or kind; -size and so on: "
                     "the other way round")
        ->check(taken_by(parse_order));
    command->add_option("--group", options->group, "folder, kind, format, date or medium: counted, not one by one")
        ->check(CLI::IsMember({"folder", "kind", "format", "date", "medium"}));
    command
        ->add_option("--depth", options->depth,
                     "with --group: how many levels of folders, or 1 to 3 for years, months, days")
        ->check(CLI::Range(1, 1000));
    command->add_option("--from", options->from, "begin with this find, counted from 1")->check(CLI::PositiveNumber);
    command->add_option("--limit", options->limit, "show so many (a table: 1000)")->check(CLI::PositiveNumber);
    command->add_option("--contains", options->contains,
                        "only files that have this text in them: as it stands, or within office documents and PDF; "
                        "letter case is ignored");
    command
        ->add_option("--similar", options->similar,
                     "only what is like the find with this ID: pictures that look alike, copies, and files of its "
                     "name; the likest first")
        ->check(CLI::PositiveNumber);
    command->add_flag("--every-copy", options->every_copy,
                      "list finds of the same content one by one; a table shows them once");
    command->add_option("--source", options->source,
                        "with --contains or --similar: where the medium is now, if not where it was scanned");
    command->add_flag("--extents", options->extents, "with --as jsonl: where each piece lies on the medium");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger list card.dredge --kind picture --prospect 60..\n"
        "  dredger list office.dredge --kind document --contains \"storm petrel\"\n"
        "  dredger list card.dredge --similar 17\n"
        "  dredger list card.dredge --group folder --depth 2\n"
        "  dredger list card.dredge office.dredge --sort -size --limit 20\n"
        "  dredger list card.dredge --folder \"Ringing logs\" --as csv > picks.csv");
    command->callback([options, &exit_code] { exit_code = list(*options); });
}

}  // namespace dredger::cli

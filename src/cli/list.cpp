#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <unistd.h>

#include "base/csv.h"
#include "catalog/picks.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/groups.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

struct Options {
    std::vector<std::string> catalogs;
    SelectionOptions selection;
    std::string form_word = "table";
    bool json = false;
    std::string group;
    std::optional<std::size_t> depth;
    std::uint64_t from = 1;
    bool extents = false;
    std::string source;
    bool every_copy = false;

    Form form() const { return json ? Form::jsonl : word_in<Form>(form_word, kFormWords); }
    bool is_table() const { return form() == Form::table; }
};

constexpr std::uint64_t kRowsAtOnce = 1000;  // of a table, where nothing else is asked for

// The finds of one catalog and what the rows say of it.
struct Opened {
    Catalog catalog;
    std::string name;
    Chosen chosen;
    std::map<std::int64_t, unsigned> volume_numbers;
    Catalog::Copies copies;
};

Result<Opened> opened(const std::string& path, const Options& options) {
    DREDGER_TRY(Catalog catalog, open_catalog(path));
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::map<std::int64_t, unsigned> numbers;
    for (const ScannedVolume& volume : volumes) {
        numbers[volume.id] = volume.place.number;
        if (!volume.done && options.is_table())
            warn(fmt::format("{}: the scan of volume {} is not finished", path, volume.place.number));
    }
    DREDGER_TRY(Chosen chosen, choose(catalog, options.selection, options.source));
    std::string name = catalog.path().filename().string();
    return Opened{std::move(catalog), std::move(name), std::move(chosen), std::move(numbers), {}};
}

void say_nothing_found(const Options& options) {
    const SelectionOptions& selection = options.selection;
    const std::string catalog = as_word(options.catalogs.front());
    if (selection.similar)
        fmt::print(stderr,
                   "Nothing that is selected is like {}. dredger list {} --sort name puts like names together.\n",
                   *selection.similar, catalog);
    else if (selection.is_narrowed())
        fmt::print(stderr,
                   "Nothing in the catalog is selected. Leave out an option, or widen it; --state live shows what is "
                   "not deleted.\n");
    else
        fmt::print(stderr, "The catalog has no deleted files. dredger list {} --state live shows what is there.\n",
                   catalog);
}

// The rows of a table of finds: which columns it has depends on what there is to tell apart.
class Rows {
  public:
    Rows(const std::vector<Opened>& catalogs, const Options& options)
        : is_similar_(options.selection.similar.has_value()), several_catalogs_(catalogs.size() > 1) {
        for (const Opened& one : catalogs) {
            several_volumes_ = several_volumes_ || one.volume_numbers.size() > 1;
            copies_ = copies_ || !one.copies.further.empty();
        }
        std::vector<Table::Column> columns;
        const auto add = [&](const char* title, int worth, Table::Align align = Table::Align::left,
                             bool may_be_left_out = false) {
            columns.push_back({title, align, may_be_left_out, worth});
        };
        if (several_catalogs_) add("CATALOG", Table::kStays);
        add("ID", Table::kStays, Table::Align::right);
        add("PROSPECT", Table::kStays);
        add("STATE", 5);
        add("SIZE", 6, Table::Align::right);
        add("MODIFIED", 3);
        add("DELETED", 1, Table::Align::left, true);
        add("ROLE", 4, Table::Align::left, true);
        if (several_volumes_) add("VOLUME", 4, Table::Align::right);
        if (copies_) add("COPIES", 2, Table::Align::right);
        if (is_similar_) add("HOW ALIKE", Table::kStays);
        add("PATH", Table::kStays);
        columns.back().is_path = true;
        table_ = std::make_unique<Table>(std::move(columns));
    }

    void add(const Candidate& c, const Opened& from) {
        std::vector<std::string> row;
        if (several_catalogs_) row.push_back(from.name);
        row.push_back(std::to_string(c.id));
        row.push_back(meter(c.prospect));
        row.emplace_back(word_for(c.record.state));
        row.push_back(c.record.is_folder ? "folder" : size_text(c.record.size));
        row.push_back(time_text(c.record.modified));
        row.push_back(time_text(c.record.deleted));
        for (const std::string& time : {row[row.size() - 2], row.back()})
            zoneless_ = zoneless_ || time.ends_with(kZonelessMark);
        row.emplace_back(c.copy.role == Role::none ? "-" : word_for(c.copy.role));
        if (several_volumes_) {
            const unsigned number = from.volume_numbers.at(c.volume);
            row.push_back(number == 0 ? "none" : std::to_string(number));
        }
        if (copies_) {
            const auto same = from.copies.count.find(c.id);
            row.push_back(same == from.copies.count.end() ? "" : count_text(same->second));
        }
        if (is_similar_) row.push_back(why_alike(c.id, from));
        row.push_back(printable(c.record.path()) + (c.record.is_folder ? "/" : ""));
        std::string below;
        if (const auto passage = from.chosen.passages.find(c.id); passage != from.chosen.passages.end())
            below = passage->second.where.empty() ? passage->second.line
                                                  : passage->second.where + ": " + passage->second.line;
        table_->add(std::move(row), std::move(below));
    }

    void print() const {
        if (!table_->empty()) table_->print();
        if (zoneless_) tell("\n{} by the clock of the device that wrote it; its zone is not known.\n", kZonelessMark);
    }

  private:
    static std::string why_alike(std::int64_t id, const Opened& from) {
        const auto& similar = from.chosen.similar;
        const auto one =
            std::find_if(similar.begin(), similar.end(), [&](const Similar& s) { return s.candidate == id; });
        return one == similar.end() ? "" : one->why;
    }

    bool is_similar_, several_catalogs_;
    bool several_volumes_ = false, copies_ = false, zoneless_ = false;
    std::unique_ptr<Table> table_;
};

void print_for_programs(const Candidate& c, const Opened& from, const Options& options) {
    const unsigned volume = from.volume_numbers.at(c.volume);
    if (options.form() == Form::csv) {
        std::vector<std::string> fields = pick_row(c, from.name, volume);
        // A file keeps names as they are; a terminal would do what they say.
        if (stdout_is_terminal())
            for (std::string& field : fields) field = printable(field);
        fmt::print("{}", csv_row(fields));
        return;
    }
    Json object = json_of(c, from.name, volume);
    if (options.extents) object["extents"] = json_of(c.layout);
    if (const auto passage = from.chosen.passages.find(c.id); passage != from.chosen.passages.end())
        object["passage"] = {{"where", passage->second.where}, {"line", passage->second.line}};
    print_line(object);
}

// A page of what is chosen of one catalog.
Result<void> each_of(const Opened& from, const Options& options, Page page,
                     const std::function<bool(const Candidate&)>& visit) {
    if (!options.selection.similar || !options.selection.sort.empty()) {
        Selection shown = from.chosen.selection;
        shown.without = from.copies.further;
        return from.catalog.each(shown, options.selection.order(), options.extents, visit, page);
    }
    std::uint64_t at = 0;
    for (const Similar& one : from.chosen.similar) {
        if (at++ < page.skip || (page.most && at > page.skip + *page.most)) continue;
        DREDGER_TRY(const auto candidate, from.catalog.find(one.candidate));
        if (candidate) visit(*candidate);
    }
    return {};
}

// Several catalogs are listed one behind the other, each in order; a page counts through all of them.
// How many there are in all.
Result<std::uint64_t> list_rows(std::vector<Opened>& catalogs, const Options& options) {
    if (options.form() == Form::csv) fmt::print("{}", csv_row(pick_columns()));
    std::uint64_t further = 0;
    if (options.is_table() && !options.every_copy && !options.selection.reads_content())
        for (Opened& one : catalogs) {
            DREDGER_TRY(one.copies, one.catalog.copies(one.chosen.selection, options.selection.order()));
            further += one.copies.further.size();
        }
    Rows rows(catalogs, options);
    Page page{options.from > 0 ? options.from - 1 : 0, options.selection.limit};
    if (!page.most && options.is_table()) page.most = kRowsAtOnce;
    const std::uint64_t skipped = page.skip;
    Totals all;
    std::uint64_t shown = 0;
    for (Opened& from : catalogs) {
        std::uint64_t here = 0;
        DREDGER_CHECK(each_of(from, options, page, [&](const Candidate& c) {
            ++here;
            if (options.is_table())
                rows.add(c, from);
            else
                print_for_programs(c, from, options);
            return true;
        }));
        DREDGER_TRY(const Totals totals, from.catalog.totals(from.chosen.selection));
        all.add(totals);
        shown += here;
        if (page.most) *page.most -= here;
        page.skip -= std::min(page.skip, totals.files + totals.folders - from.copies.further.size());
    }
    const std::uint64_t count = all.files + all.folders;
    if (!options.is_table() || count == 0) return count;
    rows.print();
    if (shown == 0) fmt::print("There are {} finds: --from {} is behind the last.\n", count_text(count), options.from);
    print_totals(all);
    if (further > 0)
        tell("{} with the same content {} counted, not shown: --every-copy lists them, too.\n",
             counted(further, "further copy", "further copies"), further == 1 ? "is" : "are");
    if (shown > 0 && shown < count - further)
        tell("Shown: {} to {}.{}\n", count_text(skipped + 1), count_text(skipped + shown),
             skipped + shown < count - further
                 ? fmt::format(" Go on with --from {}, or show more at once with --limit.", skipped + shown + 1)
                 : "");
    return count;
}

Result<std::uint64_t> list_groups(const std::vector<Opened>& catalogs, const Options& options) {
    const auto grouping = word_in<Grouping>(options.group, kGroupingWords);
    return print_groups(grouping, options.depth, options.form(), [&](const Catalog::GroupSink& sink) -> Result<void> {
        for (const Opened& from : catalogs)
            DREDGER_CHECK(from.catalog.each_group(from.chosen.selection, grouping, sink));
        return {};
    });
}

// Options that say something of what is not asked for are a mistake of who typed them.
Result<void> check_together(const Options& options) {
    const auto goes_with = [](const char* option, const char* other) {
        return fail(ErrorKind::usage, fmt::format("{} says nothing without {}", option, other), "",
                    fmt::format("add {}, or leave {} out", other, option));
    };
    if (options.depth && options.group.empty()) return goes_with("--depth", "--group");
    if (options.extents && options.form() != Form::jsonl) return goes_with("--extents", "--json");
    if (!options.source.empty() && !options.selection.reads_content())
        return goes_with("--source", "--contains or --similar");
    if (!options.group.empty() && (options.selection.limit || !options.selection.sort.empty()))
        return fail(ErrorKind::usage, "--group counts all that is selected, in its own order", "",
                    "leave --sort and --limit out");
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
    command->add_option("--as", options->form_word, "table (default), jsonl, or csv, which is also a pick list")
        ->check(one_of(kFormWords));
    command->add_flag("--json", options->json, "the same as --as jsonl: a find a line, for programs");
    command
        ->add_option("--group", options->group, "folder, kind, format, date, medium or volume: counted, not one by one")
        ->check(one_of(kGroupingWords));
    command
        ->add_option("--depth", options->depth,
                     "with --group: how many levels of folders, or 1 to 3 for years, months, days")
        ->check(CLI::Range(1, 1000));
    command->add_option("--from", options->from, "begin with this find, counted from 1; a table shows 1000 at once")
        ->check(CLI::PositiveNumber);
    command->add_flag("--every-copy", options->every_copy,
                      "list finds of the same content one by one; a table shows them once");
    command
        ->add_option("--source", options->source,
                     "with --contains or --similar: where the medium is now, if not where it was scanned")
        ->type_name("MEDIUM");
    command->add_flag("--extents", options->extents, "with --json: where each piece lies on the medium");
    options->selection.add_to(*command, SelectionOptions::Sorts::rows);
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

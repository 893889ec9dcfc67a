#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include "catalog/catalog.h"
#include "cli/chosen.h"
#include "cli/commands.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/words.h"
#include "imaging/copy.h"
#include "imaging/image_file.h"
#include "media/drives.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
    std::string source, file, catalog, time, split, within, piece = "1M";
    SelectionOptions selection;
    unsigned asks = 5;
    double patience = 60;
    bool in_order = false, backwards = false, no_hash = false, onto_same_drive = false;
};

Result<std::uint64_t> amount(const char* option, const std::string& text) {
    const auto range = parse_sizes(text);
    if (!range || !range->from || range->from != range->to || *range->from <= 0)
        return fail(ErrorKind::usage, fmt::format("{}: {} is no size", option, text), "", "write it like 4G or 700M");
    return static_cast<std::uint64_t>(*range->from);
}

// "45s", "30m", "2h".
Result<std::chrono::milliseconds> duration(const char* option, const std::string& text) {
    constexpr std::string_view kUnits = "smh";
    constexpr double kSeconds[] = {1, 60, 3600};
    double number = 0;
    char unit = 0;
    const auto known = std::sscanf(text.c_str(), "%lf%c", &number, &unit) == 2 ? kUnits.find(unit) : kUnits.npos;
    if (known == kUnits.npos || !(number > 0) || number > 10'000 || !text.ends_with(unit))
        return fail(ErrorKind::usage, fmt::format("{}: {} is no time", option, text), "", "write it like 30m or 2h");
    return std::chrono::milliseconds(static_cast<std::int64_t>(number * kSeconds[known] * 1000));
}

// The places of the chosen finds. The catalog may be of the medium, or of the copy as far as it came.
Result<std::vector<Extent>> chosen_places(const Options& options, const fs::path& image) {
    DREDGER_TRY(Catalog catalog, open_catalog(options.catalog));
    DREDGER_TRY(const Selection selection, choose_first(catalog, options.selection, ""));
    DREDGER_TRY(const auto sources, catalog.sources());
    DREDGER_TRY(const auto volumes, catalog.volumes());
    std::set<std::int64_t> of_this_medium;
    std::error_code failed;
    for (const ScannedSource& source : sources)
        for (const fs::path& path : {fs::path(options.source), image})
            if (fs::equivalent(source.path, path, failed))
                for (const ScannedVolume& volume : volumes)
                    if (volume.source == source.id) of_this_medium.insert(volume.id);
    if (of_this_medium.empty())
        return fail(ErrorKind::usage, fmt::format("the catalog is of another medium than {}", options.source),
                    options.catalog, "give one that was made of it, or of its copy");
    std::vector<Extent> places;
    DREDGER_CHECK(catalog.each(selection, {}, true, [&](Candidate& candidate) {
        if (of_this_medium.contains(candidate.volume))
            for (const Extent& extent : candidate.layout.extents)
                if (extent.is_stored()) places.push_back(extent);
        return true;
    }));
    if (places.empty())
        return fail(ErrorKind::usage, "nothing that is chosen has its content in clusters of its own", options.catalog,
                    "dredger list with the same options shows what is chosen");
    return places;
}

Result<CopyRequest> request_for(const Options& options) {
    CopyRequest request;
    request.source = options.source;
    request.file = options.file;
    request.asks = options.asks;
    request.backwards = options.backwards;
    request.structures_first = !options.in_order;
    request.patience = std::chrono::milliseconds(static_cast<std::int64_t>(options.patience * 1000));
    request.hashes = !options.no_hash;
    request.onto_same_drive = options.onto_same_drive;
    constexpr std::uint64_t kLargestPiece = 256 << 20;
    DREDGER_TRY(request.piece, amount("--piece", options.piece));
    if (request.piece % 4096 != 0 || request.piece > kLargestPiece)
        return fail(ErrorKind::usage, "--piece must be a multiple of 4096 bytes, and not more than 256M");
    if (!options.time.empty()) {
        DREDGER_TRY(request.at_most, duration("--for", options.time));
    }
    if (!options.split.empty()) {
        DREDGER_TRY(request.split, amount("--split", options.split));
        if (request.split % 4096 != 0) return fail(ErrorKind::usage, "--split must be a multiple of 4096 bytes");
    }
    if (!options.within.empty()) {
        DREDGER_TRY(const Range range, parse_sizes(options.within));
        request.within.offset = static_cast<std::uint64_t>(range.from.value_or(0));
        const std::uint64_t end = range.to ? static_cast<std::uint64_t>(*range.to) : ~std::uint64_t{0};
        if (end <= request.within.offset)
            return fail(ErrorKind::usage, fmt::format("--within: {} holds nothing", options.within), "",
                        "write it like 0..4G, or 700M..");
        request.within.length = end - request.within.offset;
    }
    if (!options.catalog.empty()) {
        DREDGER_TRY(request.chosen, chosen_places(options, ImageFile::first_part(request.file, request.split)));
    } else if (options.selection.is_narrowed()) {
        return fail(ErrorKind::usage, "files can be chosen from a catalog only", "", "name it with -c NAME.dredge");
    }
    return request;
}

// "all 38.0 MiB are", "all but 5.5 KiB of 100.0 MiB are".
std::string how_much_is_safe(const AreaTotals& totals, std::uint64_t size) {
    if (totals.not_held() == 0) return fmt::format("all {} are", size_text(size));
    if (totals.not_held() < size / 20)
        return fmt::format("all but {} of {} are", size_text(totals.not_held()), size_text(size));
    return fmt::format("{} of {} are", size_text(totals.held()), size_text(size));
}

void print_totals(const CopyReport& done) {
    Table table({{"WHAT"},
                 {"SAFE", Table::Align::right},
                 {"REFUSED", Table::Align::right},
                 {"NOT ASKED", Table::Align::right}});
    const auto add = [&](const char* what, const AreaTotals& totals) {
        const auto size = [](std::uint64_t bytes) { return bytes == 0 ? "-" : size_text(bytes); };
        table.add({what, size(totals.held()), size(totals.refused()), size(totals.unasked() + totals.absent())});
    };
    if (done.structures) add("what file systems keep", *done.structures);
    if (done.chosen) add("the chosen files", *done.chosen);
    add("all of it", done.totals);
    table.print(2);
}

void print_what_it_costs(const CopyReport& done, const Options& options) {
    const std::uint64_t refused = done.totals.refused();
    if (refused == 0) return;
    const std::uint64_t asks = std::max<std::uint64_t>(1, refused / 512);
    const double seconds = static_cast<double>(done.price_of_refusal.count()) * static_cast<double>(asks) / 1000;
    const std::string time = seconds < 1      ? "less than a second"
                             : seconds < 120  ? fmt::format("about {:.0f} seconds", seconds)
                             : seconds < 7200 ? fmt::format("about {:.0f} minutes", seconds / 60)
                                              : fmt::format("about {:.0f} hours", seconds / 3600);
    tell("Refused are {} in {}. To ask once more for each sector of it takes {}: --asks {}\n", size_text(refused),
         counted(done.totals.refused_areas, "area"), time, options.asks + 1);
}

int copy(const Options& options) {
    if (const auto logged = open_log({options.source}); !logged) return report(logged.error());
    const auto request = request_for(options);
    if (!request) return report(request.error());
    for (const std::string& warning : warnings_of_writing(options.source)) warn(warning);
    catch_interrupts();
    TerminalObserver<Observer> observer;
    const auto done = copy_medium(*request, observer);
    observer.line().clear();
    if (!done) return report(done.error());

    const std::string image = ImageFile::first_part(request->file, request->split).string();
    tell("{}{}: {} safe in {}{}\n", options.source, done->was_resumed ? ", taken up again" : "",
         how_much_is_safe(done->totals, done->size), image,
         done->copied < done->totals.held() ? fmt::format(", {} of it now", size_text(done->copied)) : "");
    if (done->totals.not_held() > 0 || done->chosen) print_totals(*done);
    if (done->totals.absent() > 0)
        tell("  {} were not asked for when {} was copied itself\n", size_text(done->totals.absent()), options.source);
    for (const std::string& sentence : done->health) tell("{}\n", sentence);
    if (!done->sha256.empty()) tell("SHA-256 of the image:\n  {}\n", done->sha256);
    tell("{} tells what each area answered; keep it beside the image\n", done->map.string());
    if (done->interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    if (done->stopped) {
        const int code = report(*done->stopped);
        return done->copied > 0 ? kDoneInPart : code;
    }
    tell("\n");
    if (done->out_of_time)
        tell("The time that was given is over: run it again to go on.\n");
    else
        print_what_it_costs(*done, options);
    if (!done->out_of_time && done->totals.unasked() > 0) tell("The same command without --within goes on.\n");
    tell_next("dredger scan " + as_word(image));
    return done->totals.not_held() > 0 ? kDoneInPart : kDone;
}

}  // namespace

void add_image(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("image", "Copy a medium that may be failing, what matters most first");
    auto options = std::make_shared<Options>();
    command->add_option("SOURCE", options->source, "device or image of any kind")->required();
    command->add_option("FILE", options->file, "the copy; beside it FILE.areas.json tells what each area answered")
        ->required();
    command->add_option("--for", options->time, "stop after this time: 45s, 30m, 2h; run again, it goes on")
        ->type_name("TIME");
    command
        ->add_option(
            "--asks", options->asks,
            "how often a byte that is refused is asked for, each time in pieces an eighth as large (default 5)")
        ->check(CLI::Range(1, 100));
    command
        ->add_option("-c,--catalog", options->catalog,
                     "of this medium or of its copy: the finds chosen by the options below come first")
        ->type_name("CATALOG");
    command->add_flag("--in-order", options->in_order, "from start to end, without looking for file systems first");
    command->add_flag("--backwards", options->backwards, "from the end to the start");
    command->add_option("--within", options->within, "only these bytes of the medium: 0..4G, 700M..")
        ->type_name("RANGE");
    command->add_option("--piece", options->piece, "asked for at once at first (default 1M)")->type_name("SIZE");
    command->add_option("--patience", options->patience, "seconds until a read that hangs is given up (default 60)")
        ->type_name("SECONDS")
        ->check(CLI::Range(0.1, 3600.0));
    command->add_option("--split", options->split, "in parts of this size, FILE.001, FILE.002 ...: 4000M")
        ->type_name("SIZE");
    command->add_flag("--no-hash", options->no_hash, "leave out the SHA-256 of the image");
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "allow an image on the drive that is read; it may overwrite what is looked for");
    options->selection.add_to(*command);
    command->footer(
        "Examples:\n"
        "  dredger image /dev/sdc nest-card.img\n"
        "  dredger image /dev/sdc nest-card.img --for 10m\n"
        "  dredger image /dev/sdc nest-card.img -c nest-card.dredge --kind picture --name 'NEST*'\n"
        "  dredger image laptop.vhdx laptop.img --split 4000M\n"
        "\nFirst comes what file systems keep of their files, then the chosen files, then the rest. What is refused\n"
        "is asked for again when all else is safe, in ever smaller pieces. Run again, it goes on where it was. All\n"
        "commands take the image together with its map. docs/failing-media.md says when to stop touching a drive.");
    command->callback([options, &exit_code] { exit_code = copy(*options); });
}

}  // namespace dredger::cli

#include "scanning/scan.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <filesystem>
#include <fmt/format.h>
#include <functional>

#include "catalog/attaching.h"
#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"
#include "formats/own_formats.h"
#include "lives/own_habits.h"
#include "media/drives.h"
#include "media/opened.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
    std::vector<std::string> sources;
    std::string catalog, folder, kind, ext, format, own_formats, own_copies, until, join, until_band = "sound,patchy";
    std::vector<unsigned> volumes;
    int code_page = 850;
    bool quick = false;
    bool no_snapshots = false;
    bool again = false;
    bool verify = false;
    bool mail = false;
    bool deep = false;
    bool whole_surface = false;
    bool every_offset = false;
    bool inside = false;
    std::uint64_t until_count = 0;
    bool onto_same_drive = false;
    bool json = false;
};

// A catalog must not overwrite what is being looked for.
Result<void> check_safe(const Options& options, const OpenedMedium& source) {
    DREDGER_CHECK(open_log(source.files));
    const auto safe = refuse_danger(options.catalog, source.files);
    if (safe || !options.onto_same_drive) return safe;
    warn(fmt::format("{}: {}; going on as told by --onto-same-drive", options.catalog, safe.error().what));
    return {};
}

void say(const VolumeReport& volume) {
    if (volume.filesystem.empty()) {
        tell("  volume {}: no file system that is known; left alone\n", volume.number);
        return;
    }
    const std::string name =
        printable(volume.label.empty() ? volume.filesystem : fmt::format("{} {}", volume.filesystem, volume.label));
    if (volume.was_done_before)
        tell("  volume {} ({}): in the catalog already\n", volume.number, name);
    else if (volume.is_store)
        tell("  mail store {}{}: {} deleted and {} other messages, attachments and folders\n", name,
             volume.is_mountable ? "" : ", which is damaged", count_text(volume.deleted),
             count_text(volume.live + volume.trashed));
    else if (volume.formatted_since != 0)
        tell("  lost volume {} ({}), which volume {} held before it was formatted: {} records\n", volume.number, name,
             volume.formatted_since, count_text(volume.deleted + volume.trashed + volume.live));
    else
        tell("  {}volume {} ({}){}: {} deleted and {} {} records\n", volume.is_lost ? "lost " : "", volume.number, name,
             volume.is_mountable ? "" : ", which no system mounts as it stands", count_text(volume.deleted),
             count_text(volume.live + volume.trashed), volume.is_lost || !volume.is_mountable ? "other" : "live");
    if (!volume.bins.empty()) tell("    in its bin: {}\n", bin_text(volume.bins));
}

void say(const SurfaceReport& surface) {
    const std::string where = surface.number == 0 ? fmt::format("outside the volumes, at {}", size_text(surface.offset))
                                                  : fmt::format("volume {}", surface.number);
    if (surface.was_done_before) {
        tell("  {}: searched already\n", where);
        return;
    }
    // A former volume has no ground of its own: what is left of it is in today's.
    if (surface.has_no_ground) {
        tell("  {}: content of {} checked\n", where, counted(surface.checked, "record"));
        return;
    }
    tell("  {}: searched {}{}: {} without a record{}\n", where, size_text(surface.searched),
         surface.is_whole ? "" : " of free space", counted(surface.finds, "file"),
         surface.merged > 0 ? fmt::format(", {} that records tell of", count_text(surface.merged)) : "");
    std::vector<std::string> more;
    if (surface.checked > 0) more.push_back(fmt::format("content of {} checked", counted(surface.checked, "record")));
    if (surface.dropped > 0) more.push_back(fmt::format("{} left out", counted(surface.dropped, "false start")));
    if (surface.given_up > 0)
        more.push_back(fmt::format("{} given up: following on would cost more than what can be there is worth",
                                   counted(surface.given_up, "start")));
    if (!more.empty()) tell("    {}\n", fmt::join(more, "; "));
}

void say_checked(const SurfaceReport& surface) {
    if (surface.checked > 0)
        tell("  volume {}: content of {} checked\n", surface.number, counted(surface.checked, "file"));
    else
        tell("  volume {}: everything is checked already\n", surface.number);
}

void print_what_turned_up(const Catalog& catalog, const ScanRequest& request) {
    constexpr std::size_t kShown = 10;
    tell("  What was wanted has turned up; the same command without --until goes on.\n");
    Table table({{"ID", Table::Align::right}, {"PROSPECT"}, {.title = "PATH", .is_path = true}});
    (void)catalog.each(*request.until, Order{}, false,
                       [&](const Candidate& c) {
                           table.add({std::to_string(c.id), meter(c.prospect), printable(c.record.path())});
                           return true;
                       },
                       {0, kShown});
    table.print();
}

Json told(const ScanReport& outcome, const std::string& source) {
    Json volumes = Json::array(), surfaces = Json::array();
    for (const VolumeReport& v : outcome.volumes)
        volumes.push_back({{"number", v.number},
                           {"filesystem", v.filesystem.empty() ? Json(nullptr) : Json(v.filesystem)},
                           {"label", v.label},
                           {"lost", v.is_lost},
                           {"mountable", v.is_mountable},
                           {"formatted_since", v.formatted_since == 0 ? Json(nullptr) : Json(v.formatted_since)},
                           {"done_before", v.was_done_before},
                           {"deleted", v.deleted},
                           {"trashed", v.trashed},
                           {"live", v.live}});
    for (const SurfaceReport& s : outcome.surfaces)
        surfaces.push_back({{"volume", s.number},
                            {"searched", s.searched},
                            {"whole", s.is_whole},
                            {"done_before", s.was_done_before},
                            {"finds", s.finds},
                            {"merged", s.merged},
                            {"checked", s.checked},
                            {"dropped", s.dropped},
                            {"given_up", s.given_up}});
    return {{"source", source},
            {"volumes", std::move(volumes)},
            {"surfaces", std::move(surfaces)},
            {"unreadable", outcome.unreadable},
            {"answered_anew", outcome.answered_anew},
            {"until_reached", outcome.is_over},
            {"interrupted", outcome.interrupted}};
}

// What lies in bins and copies needs no searching; mail stores can be looked into.
void suggest_what_is_whole(const Catalog& catalog, const std::string& name, const Options& options,
                           const ScanRequest& request) {
    Selection in_bins;
    in_bins.states = {State::trashed};
    if (catalog.count(in_bins).value_or(0) > 0) {
        tell("\nLook in the bin first, what lies there is whole:\n");
        tell_next(fmt::format("dredger list {} --state trashed", name), "  ");
    }
    if (const auto documents = catalog.documents_with_copies().value_or(0); documents > 0) {
        tell("\nSafety copies and earlier states of {} stand here, too:\n", counted(documents, "document"));
        tell_next("dredger versions " + name, "  ");
    }
    Selection stores = usual_selection();
    stores.states = {};
    stores.formats = {"pst", "dbx", "mbox"};
    if (const auto count = catalog.count(stores).value_or(0); count > 0 && !request.mail) {
        tell("\n{} found; what lies in them, and what was deleted there:\n",
             counted(static_cast<std::uint64_t>(count), "mail store was", "mail stores were"));
        tell_next(fmt::format("dredger scan --mail {} -c {}", as_word(options.sources.front()), name), "  ");
    }
}

int scan_all(Options options) {
    ScanRequest request;
    request.volumes = {options.volumes.begin(), options.volumes.end()};
    request.folder = options.folder;
    while (request.folder.ends_with('/')) request.folder.pop_back();
    while (request.folder.starts_with('/')) request.folder.erase(0, 1);
    request.extensions = parse_words(options.ext);
    request.code_page = options.code_page == 437 ? CodePage::cp437 : CodePage::cp850;
    if (!options.kind.empty()) {
        auto kinds = parse_kinds(options.kind);
        if (!kinds) return report(kinds.error());
        request.kinds = std::move(*kinds);
    }

    request.deep = options.deep || options.whole_surface || options.every_offset || options.inside ||
                   !options.until.empty() || options.until_count > 0;
    if (options.quick && request.deep)
        return report({ErrorKind::usage, "--quick reads records only", {}, "leave it out to search the surface"});
    for (const auto& [name, text] : {std::pair("--format", &options.format), std::pair("--join", &options.join),
                                     std::pair("--own-formats", &options.own_formats)})
        if (!request.deep && !text->empty())
            return report({ErrorKind::usage, fmt::format("{} says how the surface is searched", name), "",
                           "add --deep, or leave it out"});
    request.snapshots = !options.no_snapshots;
    request.again = options.again;
    request.verify = options.verify;
    request.mail = options.mail;
    request.whole_surface = options.whole_surface;
    request.every_offset = options.every_offset;
    request.inside = options.inside;
    if (!options.join.empty()) request.join = word_in<JoinEffort>(options.join, kJoinEffortWords);
    if (!options.until.empty() || options.until_count > 0) {
        auto bands = parse_bands(options.until_band);
        if (!bands) return report(bands.error());
        request.until = usual_selection();
        request.until->bands = std::move(*bands);
        if (!options.until.empty()) request.until->names = {name_glob(options.until)};
        request.until_count = std::max<std::uint64_t>(options.until_count, 1);
    }
    if (options.catalog.empty())
        options.catalog = fs::path(options.sources.front()).filename().stem().string() + ".dredge";
    else if (!fs::path(options.catalog).has_extension() && !fs::exists(options.catalog))
        options.catalog += ".dredge";
    std::optional<OwnFormats> own;
    if (!options.own_formats.empty()) {
        auto read = OwnFormats::read(options.own_formats);
        if (!read) return report(read.error());
        own.emplace(std::move(*read));
        for (const Format& format : own->formats()) request.further.push_back(&format);
    }
    std::optional<lives::OwnHabits> own_habits;
    if (!options.own_copies.empty()) {
        auto read = lives::OwnHabits::read(options.own_copies);
        if (!read) return report(read.error());
        own_habits.emplace(std::move(*read));
        request.own_habits = own_habits->habits();
    }
    if (!options.format.empty()) {
        auto formats = parse_formats(options.format);
        if (!formats) return report(formats.error());
        request.formats = std::move(*formats);
    }

    // A source that can't be read is told before a catalog is made for it; one of many does not stop the others.
    std::vector<OpenedMedium> sources;
    int code = kDone;
    for (const std::string& source : options.sources) {
        auto opened = open_medium(source, Folders::as_archive);
        if (!opened) {
            code = report(opened.error());
            continue;
        }
        if (const auto safe = check_safe(options, *opened); !safe) return report(safe.error());
        for (const std::string& warning : warnings_of_writing(source)) warn(warning);
        sources.push_back(std::move(*opened));
    }
    if (sources.empty()) return code;
    const bool was_there = fs::exists(options.catalog);
    auto catalog = Catalog::open_for_scan(options.catalog);
    if (!catalog) return report(catalog.error());

    catch_interrupts();
    bool any = false, interrupted = false;
    std::vector<bool> are_stores;  // of the volumes that were read
    Json media = Json::array();
    for (const OpenedMedium& source : sources) {
        request.source = source.path;
        TerminalObserver<Observer> observer;
        const auto outcome = scan(*catalog, source, request, observer);
        observer.line().clear();
        if (!outcome) {
            code = report(outcome.error());
            continue;
        }
        any = true;
        interrupted = outcome->interrupted;
        if (outcome->unreadable > 0 && code == kDone) code = kDoneInPart;
        media.push_back(told(*outcome, source.path.string()));
        if (!options.json) {
            tell("{}\n", printable(source.path.string()));
            for (const VolumeReport& volume : outcome->volumes) are_stores.push_back(volume.is_store);
            for (const VolumeReport& volume : outcome->volumes)
                if (!volume.filesystem.empty() || !request.deep) say(volume);
            for (const SurfaceReport& surface : outcome->surfaces) request.deep ? say(surface) : say_checked(surface);
            if (outcome->answered_anew > 0)
                tell("  {} that could not be read before {} read again\n", size_text(outcome->answered_anew),
                     outcome->interrupted ? "are being" : "were");
            if (outcome->is_over) print_what_turned_up(*catalog, request);
        }
        if (interrupted) break;
    }
    if (any && code == kSource) code = kDoneInPart;
    if (options.json) {
        const auto totals = catalog->totals(usual_selection());
        if (!totals) return report(totals.error());
        print_document({{"catalog", options.catalog}, {"media", std::move(media)}, {"finds", json_of(*totals)}});
    }
    if (interrupted) {
        fmt::print(stderr, "dredger: interrupted: run the same command again to go on\n");
        return kInterrupted;
    }
    if (!any && !was_there) {
        const std::string path = options.catalog;
        { const auto closed = std::move(*catalog); }
        for (const char* ending : {"", "-wal", "-shm"}) fs::remove(path + ending);
        return code;
    }
    if (options.json) return code;
    const std::string name = as_word(options.catalog);
    if (manner().suggests) suggest_what_is_whole(*catalog, name, options, request);
    const auto finds = catalog->count(usual_selection());
    const bool is_mail = !are_stores.empty() && std::all_of(are_stores.begin(), are_stores.end(), std::identity());
    if (finds && *finds == 0 && is_mail)
        tell("\nNothing that was deleted is left in it. What is there:\n");
    else if (finds && *finds == 0)
        tell("\n{}\n", request.deep ? "Nothing was found, neither by record nor by content."
                                    : "Nothing that was deleted has left a record here.");
    else if (finds)
        tell("\n{} in {}.\n", counted(static_cast<std::uint64_t>(*finds), "find"), printable(options.catalog));
    if (finds && *finds > 0)
        tell_next("dredger list " + name);
    else if (is_mail)
        tell_next(fmt::format("dredger list {} --state live", name), "  ");
    else if (finds && !request.deep)
        tell_next(fmt::format("dredger scan --deep {} -c {}", as_word(options.sources.front()), name));
    return code;
}

}  // namespace

void add_scan(CLI::App& program, int& exit_code) {
    CLI::App* command =
        program.add_subcommand("scan", "Find deleted files and keep what is known of them in a catalog");
    auto options = std::make_shared<Options>();
    command
        ->add_option("SOURCE", options->sources, "device, or image of any kind: raw, in parts, packed, a virtual disk")
        ->required();
    command
        ->add_option("-c,--catalog", options->catalog,
                     "where to keep the finds, NAME.dredge; on another drive than the source (default: named after "
                     "the source, in the current folder)")
        ->type_name("CATALOG");
    command->add_flag("--quick", options->quick, "records only (the default)");
    command->add_flag("--deep", options->deep,
                      "records, and files by their content in free space and outside of volumes");
    command->add_flag("--no-snapshots", options->no_snapshots, "leave out what only a volume's snapshots tell of");
    command->add_flag("--verify", options->verify,
                      "also read what the records tell of and check it as far as its format allows; --deep does, too");
    command->add_flag("--again", options->again,
                      "ask once more for what an earlier scan could not read, where the medium answers now");
    command->add_flag(
        "--mail", options->mail,
        "also read the mail stores that are found: PST, OST, DBX, mailboxes; a source that is one is read "
        "in any case");
    command->add_flag("--whole-surface", options->whole_surface, "deep, and not only in free space");
    command->add_flag("--every-offset", options->every_offset,
                      "deep, and not only where sectors begin: for media whose files lie anywhere; slow");
    command->add_flag("--inside", options->inside, "deep, and also list files within other files");
    command
        ->add_option("--join", options->join,
                     "deep: how much is tried for files in pieces: off, quick (default) or thorough (hours)")
        ->check(one_of(kJoinEffortWords));
    command->add_option("--format", options->format, "deep: look for these formats only: jpeg,docx ... (dredger kinds)")
        ->type_name("FORMATS");
    command
        ->add_option("--own-copies", options->own_copies,
                     "safety copies of programs that are not known here, from a TOML file (docs/lives.md)")
        ->type_name("FILE");
    command->add_option("--own-formats", options->own_formats, "deep: formats of your own, from a TOML file")
        ->type_name("FILE");
    command->add_option("--until", options->until, "deep: stop when a file with such a name is found: \"*.docx\"")
        ->type_name("NAME");
    command
        ->add_option("--until-band", options->until_band,
                     "which prospects count for --until and --until-count (sound,patchy)")
        ->check(several_of(kBandWords));
    command->add_option("--until-count", options->until_count, "deep: stop when so many files are found");
    command->add_option("--volume", options->volumes, "only the volume with this number; may be repeated")
        ->allow_extra_args(false);
    command->add_option("--folder", options->folder, "keep only finds of this original folder and below it")
        ->type_name("PATH");
    command->add_option("--kind", options->kind, "keep only finds of these kinds: picture,document ...")
        ->check(several_of(kKindWords));
    command->add_option("--ext", options->ext, "keep only finds with these file name extensions: jpg,docx ...")
        ->type_name("EXTENSIONS");
    command->add_option("--code-page", options->code_page, "of short FAT names: 850 (default) or 437")
        ->check(CLI::IsMember({437, 850}));
    command->add_flag("--onto-same-drive", options->onto_same_drive,
                      "allow a catalog on the drive that is read; it may overwrite what is looked for");
    command->add_flag("--json", options->json, "tell how it went as JSON (docs/json.md)");
    command->footer(
        "Examples:\n"
        "  dredger scan nest-card.img                        (the catalog becomes nest-card.dredge)\n"
        "  dredger scan --verify office.img -c office.dredge\n"
        "  dredger scan --deep nest-card.img -c nest-card.dredge --kind picture,video\n"
        "  dredger scan /dev/sdc -c /mnt/rescue/card.dredge --folder \"DCIM/100NESTS\" --kind picture\n"
        "\nRun again with the same catalog, it goes on where it was stopped and reads nothing twice. What could not "
        "be\n"
        "read is asked for once more with --again only.");
    command->callback([options, &exit_code] { exit_code = scan_all(*options); });
}

}  // namespace dredger::cli

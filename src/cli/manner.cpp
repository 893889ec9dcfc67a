#include "cli/manner.h"

#include <CLI/CLI.hpp>
#include <chrono>
#include <cstdlib>
#include <ctime>
#include <memory>
#include <optional>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

#include "base/beneath.h"
#include "catalog/attaching.h"
#include "cli/terminal.h"
#include "cli/word_options.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

struct Notes {
    struct Waiting {
        std::chrono::system_clock::time_point when;
        std::string sentence;
    };
    std::unique_ptr<spdlog::logger> on_screen, in_log;
    std::vector<Waiting> waiting;  // for the log to be opened
    std::optional<Error> refused;  // why it is not
};

Notes& notes() {
    static Notes of_this_run;
    return of_this_run;
}

std::unique_ptr<spdlog::logger> logger_for(spdlog::sink_ptr sink, const char* pattern) {
    sink->set_pattern(pattern);
    auto logger = std::make_unique<spdlog::logger>("dredger", std::move(sink));
    logger->flush_on(spdlog::level::info);
    logger->set_error_handler([is_told = false](const std::string&) mutable {
        if (!std::exchange(is_told, true))
            fmt::print(stderr, "dredger: note: not all could be written to the log: {}; check for room on the drive\n",
                       manner().log);
    });
    return logger;
}

Result<void> try_to_open_log(const std::string& file, const std::vector<std::filesystem::path>& media) {
    DREDGER_CHECK(refuse_danger(file, media));
    if (notes().in_log) return {};
    DREDGER_CHECK(refuse_link(file));
    std::error_code failed;
    const std::filesystem::path folder = std::filesystem::absolute(file).parent_path();
    if (!std::filesystem::is_directory(folder, failed))
        return fail(ErrorKind::usage, "there is no such folder for the log", folder.string(), "make it first");
    try {
        notes().in_log = logger_for(std::make_shared<spdlog::sinks::basic_file_sink_mt>(file), "%Y-%m-%dT%T.%e%z  %v");
    } catch (const spdlog::spdlog_ex&) {
        return fail(ErrorKind::output, "the log can't be written", file, "choose another place for it with --log");
    }
    for (const Notes::Waiting& one : std::exchange(notes().waiting, {}))
        notes().in_log->log(one.when, {}, spdlog::level::info, one.sentence);
    return {};
}

// What is wrong with the name of a zone of the tz database, for the argument library; empty: nothing.
std::string is_zone(const std::string& zone) {
    const char* folder = std::getenv("TZDIR");
    const std::filesystem::path all = folder != nullptr ? folder : "/usr/share/zoneinfo";
    std::error_code failed;
    const bool is_beneath = !zone.starts_with('/') && zone.find("..") == zone.npos;
    if (is_beneath && std::filesystem::is_regular_file(all / zone, failed)) return {};
    return std::filesystem::exists(all, failed)
               ? fmt::format("--zone: nothing is known of {}; {} has the names", zone, all.string())
               : "--zone: the names of zones are not here: install the package tzdata";
}

void add_to(CLI::App& command) {
    const auto within = command.get_subcommands([](const CLI::App*) { return true; });
    for (CLI::App* one : within) add_to(*one);
    if (!within.empty()) return;
    const std::string group = kMannerGroup;
    Manner& of_this_run = manner();
    command.add_option("--color", of_this_run.colour, "auto (default: on a terminal), always or never")
        ->check(one_of(kColourWords))
        ->group(group);
    CLI::Option* utc = command
                           .add_flag_callback(
                               "--utc", [] { (void)::setenv("TZ", "UTC0", 1); },
                               "times in UTC, not on this machine's clock; also those that are typed")
                           ->group(group);
    command
        .add_option_function<std::string>(
            "--zone", [](const std::string& zone) { (void)::setenv("TZ", (":" + zone).c_str(), 1); },
            "times on the clock of this place: Atlantic/Reykjavik")
        ->type_name("AREA/PLACE")
        ->check(is_zone)
        ->group(group)
        ->excludes(utc);
    command
        .add_flag_callback(
            "--no-pager", [&of_this_run] { of_this_run.pages = false; },
            "print what is longer than the screen as it is, not through $PAGER")
        ->group(group);
    CLI::Option* quiet = command.add_flag("-q,--quiet", of_this_run.quiet,
                                          "only what was asked for, and errors: no progress, no notes, no advice");
    quiet->group(group);
    command.add_flag("-v,--verbose", of_this_run.verbose, "say on stderr what is done")->group(group)->excludes(quiet);
    command.add_option("--log", of_this_run.log, "add to this file what is done, and when")
        ->type_name("FILE")
        ->group(group);
}

}  // namespace

Colour Manner::wanted_colour() const { return word_in<Colour>(colour, kColourWords); }

Manner& manner() {
    static Manner of_this_run;
    return of_this_run;
}

void add_manner(CLI::App& program) { add_to(program); }

void take_manner(const std::string& words) {
    ::tzset();
    if (manner().verbose) notes().on_screen = logger_for(std::make_shared<spdlog::sinks::stderr_sink_mt>(), "%T  %v");
    note("dredger " + words);
}

void note(const std::string& sentence) {
    const auto now = std::chrono::system_clock::now();
    if (notes().on_screen) notes().on_screen->log(now, {}, spdlog::level::info, sentence);
    if (notes().in_log)
        notes().in_log->log(now, {}, spdlog::level::info, sentence);
    else if (!manner().log.empty())
        notes().waiting.push_back({now, sentence});
}

void tell_text(const std::string& text) {
    if (!manner().quiet) fmt::print("{}", wrapped_lines(text, width_of_stdout()));
}

void tell_next(const std::string& command, const std::string& before) {
    if (!manner().quiet && manner().suggests) fmt::print("{}\n", pasteable(before + command, width_of_stdout()));
}

Result<void> open_log(const std::vector<std::filesystem::path>& media) {
    // What was refused once stays closed, whoever asks again without knowing why.
    if (notes().refused) return tl::unexpected<Error>(*notes().refused);
    auto opened = manner().log.empty() ? Result<void>() : try_to_open_log(manner().log, media);
    if (!opened) notes().refused = opened.error();
    return opened;
}

}  // namespace dredger::cli

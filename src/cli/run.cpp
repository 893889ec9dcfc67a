#include <CLI/CLI.hpp>
#include <algorithm>
#include <fmt/format.h>
#include <memory>
#include <optional>
#include <set>

#include "cli/commands.h"
#include "cli/help.h"
#include "cli/manner.h"
#include "cli/mistyped.h"
#include "cli/pager.h"
#include "cli/settings.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

constexpr const char* kFromFiles = "some options of this run come from a file of settings: dredger config shows them";

// Commands that show what may be longer than the screen, and ask for nothing meanwhile.
bool is_read_by_people(const CLI::App& command) {
    static const std::set<std::string> names = {"list", "show", "versions", "kinds", "survey", "picks"};
    return names.contains(command.get_name());
}

// The heading of the commands in the help.
void call_them_commands(CLI::App& above) {
    for (CLI::App* command : above.get_subcommands([](const CLI::App*) { return true; })) {
        command->group("Commands");
        call_them_commands(*command);
    }
}

bool asks_for_help(const std::vector<std::string>& words) {
    return std::any_of(words.begin(), words.end(),
                       [](const std::string& word) { return word == "-h" || word == "--help" || word == "--version"; });
}

}  // namespace

std::unique_ptr<CLI::App> make_program(int& exit_code) {
    auto program = std::make_unique<CLI::App>(
        "Dredger brings back deleted files from drives, memory cards and disk images.\n"
        "It only ever reads the medium. Survey it, scan it into a catalog, look through the finds, restore elsewhere.",
        "dredger");
    program->set_help_flag("-h,--help", "how it is used");
    program->set_version_flag("--version", "dredger " DREDGER_VERSION, "which version this is");
    program->require_subcommand(1);
    program->formatter(std::make_shared<Help>());
    program->footer(
        "Examples:\n"
        "  dredger survey                                   the drives and cards of this machine\n"
        "  dredger scan card.img -c card.dredge             find what was deleted\n"
        "  dredger restore card.dredge --kind picture --to /mnt/rescue\n"
        "\nMore: dredger COMMAND --help, and dredger help selection, prospects, times or exit-codes.");
    for (const auto add :
         {add_survey, add_scan, add_list, add_show, add_versions, add_preview, add_picks, add_restore, add_repair,
          add_report, add_mount, add_image, add_kinds, add_config, add_guide, add_stick, add_demo})
        add(*program, exit_code);
    add_manner(*program);
    call_them_commands(*program);
    return program;
}

int run(const std::vector<std::string>& arguments, Heeds heeds) {
    if (arguments.size() == 2 && arguments.front() == "help")
        for (const Topic& topic : topics())
            if (topic.name == arguments.back()) {
                const Pager pager;
                fmt::print("{}", topic.text);
                return kDone;
            }
    int exit_code = kDone;
    const auto made = make_program(exit_code);
    CLI::App& program = *made;
    std::vector<std::string> words = understood(arguments, program);
    const std::size_t typed = words.size();
    if (heeds == Heeds::settings && !asks_for_help(words)) {
        const auto settings = read_settings(program);
        if (!settings) return report(settings.error());
        for (const SettingsFile& file : settings->files)
            if (!file.refused.empty()) warn(fmt::format("{} is not used: {}", file.path.string(), file.refused));
        words = with_settings(words, program, *settings);
    }
    std::optional<Pager> pager;
    program.parse_complete_callback([&] {
        take_manner(fmt::format("{}", fmt::join(words, " ")));
        if (is_read_by_people(*program.get_subcommands().front())) pager.emplace();
    });
    try {
        // CLI11 takes the words from the back.
        program.parse(std::vector<std::string>(words.rbegin(), words.rend()));
    } catch (const CLI::Success& wanted) {
        pager.emplace();
        return program.exit(wanted);
    } catch (const CLI::ParseError& error) {
        const int code = report(told(error, words, program));
        if (words.size() > typed) warn(kFromFiles);
        return code;
    }
    if (exit_code == kUsage && words.size() > typed) warn(kFromFiles);
    // Where the command failed for it, that is said already.
    if (const auto logged = open_log(); !logged && (exit_code == kDone || exit_code == kDoneInPart))
        return report(logged.error());
    return exit_code;
}

int run_shown(const std::vector<std::string>& words) {
    const std::string line = "$ " + command_line(words);
    // Not told as a sentence is: a line that is broken elsewhere could not be pasted.
    if (!manner().quiet) fmt::print("{}\n\n", styled(pasteable(line, width_of_stdout()), Style::dim));
    (void)std::fflush(stdout);
    return run(words, Heeds::words_alone);
}

}  // namespace dredger::cli

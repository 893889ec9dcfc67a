#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <optional>
#include <set>

#include "cli/commands.h"
#include "cli/help.h"
#include "cli/manner.h"
#include "cli/mistyped.h"
#include "cli/pager.h"
#include "cli/settings.h"
#include "cli/terminal.h"

namespace dredger::cli {
namespace {

// Commands that show what may be longer than the screen, and ask for nothing meanwhile.
bool is_read_by_people(const CLI::App& command) {
    static const std::set<std::string> names = {"list", "show", "versions", "kinds", "survey", "picks"};
    return names.contains(command.get_name());
}

}  // namespace

int run(const std::vector<std::string>& arguments) {
    CLI::App program(
        "Dredger brings back deleted files from drives, memory cards and disk images.\n"
        "It only ever reads the medium. Survey it, scan it into a catalog, look through the finds, restore elsewhere.",
        "dredger");
    program.set_version_flag("--version", "dredger " DREDGER_VERSION);
    program.require_subcommand(1);
    program.formatter(std::make_shared<Help>());
    program.footer(
        "Examples:\n"
        "  dredger survey                                   the drives and cards of this machine\n"
        "  dredger scan card.img -c card.dredge             find what was deleted\n"
        "  dredger restore card.dredge --kind picture --to /mnt/rescue\n"
        "\nMore: dredger COMMAND --help, and dredger help selection, prospects, times or exit-codes.");
    if (arguments.size() == 2 && arguments.front() == "help")
        for (const Topic& topic : topics())
            if (topic.name == arguments.back()) {
                const Pager pager;
                fmt::print("{}", topic.text);
                return kDone;
            }
    int exit_code = kDone;
    add_survey(program, exit_code);
    add_scan(program, exit_code);
    add_list(program, exit_code);
    add_show(program, exit_code);
    add_versions(program, exit_code);
    add_preview(program, exit_code);
    add_picks(program, exit_code);
    add_restore(program, exit_code);
    add_repair(program, exit_code);
    add_report(program, exit_code);
    add_mount(program, exit_code);
    add_image(program, exit_code);
    add_kinds(program, exit_code);
    add_demo(program, exit_code);
    if (const auto taken = take_settings(manner()); !taken) return report(taken.error());
    add_manner(program);
    std::vector<std::string> words = understood(arguments, program);
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
        return report(told(error, words, program));
    }
    // Where the command failed for it, that is said already.
    if (const auto logged = open_log(); !logged && (exit_code == kDone || exit_code == kDoneInPart))
        return report(logged.error());
    return exit_code;
}

}  // namespace dredger::cli

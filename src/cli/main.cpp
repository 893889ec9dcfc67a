#include <CLI/CLI.hpp>
#include <clocale>
#include <exception>

#include "cli/commands.h"
#include "cli/mistyped.h"
#include "cli/terminal.h"

namespace dredger::cli {

int run(const std::vector<std::string>& arguments) {
    CLI::App program(
        "Dredger brings back deleted files from drives, memory cards and disk images.\n"
        "It only ever reads the medium. Survey it, scan it into a catalog, look through the finds, restore elsewhere.",
        "dredger");
    program.set_version_flag("--version", "dredger " DREDGER_VERSION);
    program.require_subcommand(1);
    program.get_formatter()->column_width(30);
    program.footer(
        "Examples:\n"
        "  dredger survey                                   the drives and cards of this machine\n"
        "  dredger scan card.img -c card.dredge             find what was deleted\n"
        "  dredger restore card.dredge --kind picture --to /mnt/rescue\n"
        "\nExit codes: 0 done, 1 done in part, 2 wrong use, 3 source not readable or not understood, 4 refused as "
        "unsafe,\n"
        "130 interrupted (run the same command again to go on).");
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
    add_image(program, exit_code);
    add_kinds(program, exit_code);
    add_demo(program, exit_code);
    std::vector<std::string> words = understood(arguments, program);
    try {
        // CLI11 takes the words from the back.
        program.parse(std::vector<std::string>(words.rbegin(), words.rend()));
    } catch (const CLI::Success& wanted) {
        return program.exit(wanted);
    } catch (const CLI::ParseError& error) {
        return report(told(error, words, program));
    }
    return exit_code;
}

}  // namespace dredger::cli

int main(int count, char** words) {
    (void)std::setlocale(LC_ALL, "");
    try {
        return dredger::cli::run({words + 1, words + count});
    } catch (const std::exception& error) {
        return dredger::cli::report(
            {dredger::ErrorKind::output, std::string("this should not have happened: ") + error.what(), "", ""});
    }
}

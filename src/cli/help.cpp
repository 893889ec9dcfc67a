#include "cli/help.h"

#include <algorithm>
#include <fmt/format.h>

#include "cli/takes.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

constexpr std::size_t kNames = 26;    // columns for what is explained
constexpr std::size_t kWidest = 110;  // longer lines are hard to read

std::string line_of(const std::string& name, const std::string& meaning) {
    std::string line = "  " + name;
    const std::size_t indent = kNames + 2;
    if (display_width(line) + 2 > indent)
        line += "\n" + std::string(indent, ' ');
    else
        line += std::string(indent - display_width(line), ' ');
    return line + wrapped_behind(meaning, std::min(kWidest, width_of_stdout()), indent) + "\n";
}

}  // namespace

Help::Help() {
    label("Positionals", "What it takes");
    label("SUBCOMMAND", "COMMAND");
}

std::string Help::make_option(const CLI::Option* option, bool is_positional) const {
    const std::string what = takes(*option).what;
    if (is_positional) return line_of(what, option->get_description());
    const std::string name = fmt::format("{}{}{}", fmt::join(names_of(*option), ", "), what.empty() ? "" : " ", what);
    return line_of(name, option->get_description());
}

std::string Help::make_subcommand(const CLI::App* command) const {
    return line_of(command->get_name(), command->get_description());
}

std::string Help::make_description(const CLI::App* command) const {
    return wrapped_lines(command->get_description(), std::min(kWidest, width_of_stdout())) + "\n";
}

const std::vector<Topic>& topics() {
    static const std::vector<Topic> all = {
        {"selection",
         "Which finds are meant: the same words in every command that takes finds.\n\n"
         "  dredger list card.dredge --kind picture --prospect 60..     kinds, and ranges of numbers\n"
         "  dredger list card.dredge --name gannet --folder \"Ringing logs\"\n"
         "                                       a plain word is a part of a name; * and ? stand for others\n"
         "  dredger list card.dredge --size 1M.. --modified 2026-05     from 1 MiB on, changed in May\n"
         "  dredger list card.dredge --modified yesterday               or today, or 3d.. : the last three days\n"
         "  dredger list card.dredge --contains \"storm petrel\"          a text in them\n"
         "  dredger list card.dredge --similar 17                       pictures like find 17, copies of it\n"
         "  dredger restore card.dredge --id 7,12-40 --to /mnt/rescue   by their numbers\n"
         "  dredger restore card.dredge --sort -size --limit 5 --to /mnt/rescue\n\n"
         "Options of one kind widen (--kind picture,video), of several kinds narrow. What is live is left out unless\n"
         "--state live asks for it, and what systems keep for themselves unless --housekeeping does.\n"},
        {"prospects",
         "How much of a find will come back right, from 0 to 100, and a word for it:\n\n"
         "  sound    all of it, as far as can be told\n"
         "  patchy   most of it, or all of it if a guess is right\n"
         "  faint    little speaks for it\n"
         "  gone     what stands in its place is known to be another's; only restored where you ask for it\n\n"
         "The check says what the content itself shows: verified (looked through to its end and right), plausible,\n"
         "damaged, or unknown. dredger show CATALOG ID gives the reasons.\n"},
        {"times",
         "Times are shown on this machine's clock; --utc shows them in UTC. Those of memory cards (FAT) are kept "
         "without\n"
         "their zone: they are shown as they were written, with a ~ behind them, and have no Z in JSON.\n"
         "What you type with --modified and the like is meant as it is shown.\n"},
        {"exit-codes",
         "  0    done\n"
         "  1    done in part: something that was selected did not come back whole, something could not be read, "
         "there\n"
         "       was no more room to write to or what was written to failed, or nothing is selected\n"
         "  2    wrong use\n"
         "  3    the source can't be read or is not understood\n"
         "  4    refused, as it could destroy what is to be restored, or what another run is writing there\n"
         "  130  interrupted: run the same command again to go on\n"},
    };
    return all;
}

}  // namespace dredger::cli

// How the program behaves, whatever the command: colours, clock, pager, how much it says. Every command has these
// options.
#pragma once

#include <filesystem>
#include <fmt/format.h>
#include <string>
#include <vector>

#include "base/error.h"

namespace CLI {
class App;
}

namespace dredger::cli {

enum class Colour { automatic, always, never };
inline constexpr std::string_view kColourWords[] = {"auto", "always", "never"};

struct Manner {
    std::string colour = "auto";
    bool pages = true;     // what is longer than the screen goes through a pager
    bool suggests = true;  // which command is next; who is guided is told otherwise
    bool quiet = false;    // what was asked for and errors, nothing besides
    bool verbose = false;  // what is done, on stderr
    std::string log;       // a file that gets the same, with times

    Colour wanted_colour() const;
};

// That of this run.
Manner& manner();

inline constexpr const char* kMannerGroup = "In every command";
// Gives the options to each command that runs, and to those within it.
void add_manner(CLI::App& program);
// What they ask for, before the command runs; its words are for the log.
void take_manner(const std::string& words);

// What happens, for -v and --log.
void note(const std::string& sentence);
// Until now nothing was written to the log: an error where that could harm what is read from these files.
Result<void> open_log(const std::vector<std::filesystem::path>& media = {});

// To stdout what is good to know besides what was asked for, in lines that fit the terminal.
void tell_text(const std::string& text);
template <class... Values>
void tell(fmt::format_string<Values...> text, Values&&... values) {
    tell_text(fmt::format(text, std::forward<Values>(values)...));
}
// "Next: COMMAND", to be pasted: where it is too long for a line it goes on behind backslashes.
void tell_next(const std::string& command, const std::string& before = "Next: ");

}  // namespace dredger::cli

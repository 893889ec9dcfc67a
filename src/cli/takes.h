// What the options of the commands take, as help, manual, completion and configuration tell it.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

namespace dredger::cli {

struct Takes {
    std::string what;                // "FOLDER", or the name of a positional; empty: nothing, it is a flag
    std::vector<std::string> words;  // where it is one of these, or several of them
    bool several = false;            // words, with commas between
    bool is_number = false;
    bool repeats = false;  // the option may be given again
};
Takes takes(const CLI::Option& option);

// What its values are checked by.
std::vector<const CLI::Validator*> validators_of(const CLI::Option& option);

// "-c" and "--catalog".
std::vector<std::string> names_of(const CLI::Option& option);

// Those that people may give to this command, in order; of a group, or of none.
std::vector<const CLI::Option*> options_of(const CLI::App& command, const std::string& group);
inline constexpr const char* kOwnGroup = "Options";

// The commands right below one, in order; with those below them, each behind the one that it belongs to; and of these
// the ones that run by themselves.
std::vector<const CLI::App*> commands_of(const CLI::App& command);
std::vector<const CLI::App*> all_commands_of(const CLI::App& command);
std::vector<const CLI::App*> running_commands_of(const CLI::App& command);
std::vector<std::string> names_within(const CLI::App& command);

// "picks add": the path of a command below the program; and with the program in front, "dredger picks add".
std::string path_below_program(const CLI::App& command);
std::string path_of(const CLI::App& command);

}  // namespace dredger::cli

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
    bool repeats = false;            // the option may be given again
};
Takes takes(const CLI::Option& option);

// What its values are checked by.
std::vector<const CLI::Validator*> validators_of(const CLI::Option& option);

// "-c, --catalog", without what it takes.
std::string names_of(const CLI::Option& option);

// Those that people may give to this command, in order; of a group, or of none.
std::vector<const CLI::Option*> options_of(const CLI::App& command, const std::string& group);
inline constexpr const char* kOwnGroup = "Options";

// The commands within one, in order.
std::vector<const CLI::App*> commands_of(const CLI::App& command);

}  // namespace dredger::cli

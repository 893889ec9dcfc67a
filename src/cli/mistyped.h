// What somebody typed, where it is not quite what the program knows: shortened commands, and the nearest right form of
// what is wrong.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

#include "base/error.h"

namespace dredger::cli {

// The words with a shortened command spelled out, and "help COMMAND" as "COMMAND --help".
std::vector<std::string> understood(const std::vector<std::string>& words, const CLI::App& program);

// What is wrong with them, in the program's own words.
Error told(const CLI::ParseError& error, const std::vector<std::string>& words, const CLI::App& program);

}  // namespace dredger::cli

// The manual pages of the commands, from what the program itself says of them.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <string_view>

namespace dredger::manual {

// "dredger-picks-add"; of the program "dredger".
std::string page_name(const CLI::App& command);

// The page of a command, for section 1; of the program itself with its commands and topics.
std::string command_page(const CLI::App& command, std::string_view date);

}  // namespace dredger::manual

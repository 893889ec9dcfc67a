// What shells need to complete the program's command lines: scripts that know all commands, options and words by
// themselves, so that nothing is run while somebody types.
#pragma once

#include <CLI/CLI.hpp>
#include <string>

namespace dredger::manual {

std::string bash_completion(const CLI::App& program);
std::string zsh_completion(const CLI::App& program);
std::string fish_completion(const CLI::App& program);

}  // namespace dredger::manual

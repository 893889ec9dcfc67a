// How the program explains itself: the help of its commands, and pages on what concerns several of them.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <string_view>
#include <vector>

namespace dredger::cli {

// Lines that fit the terminal, and no word of the argument library's own.
class Help : public CLI::Formatter {
  public:
    Help();
    std::string make_option(const CLI::Option* option, bool is_positional) const override;
    std::string make_subcommand(const CLI::App* command) const override;
    std::string make_description(const CLI::App* command) const override;
};

struct Topic {
    std::string_view name, text;
};
// For `dredger help NAME`.
const std::vector<Topic>& topics();

}  // namespace dredger::cli

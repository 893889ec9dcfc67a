// What shells complete: the commands, their options, and what stands behind these.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

namespace dredger::manual {

// What is completed where a value stands.
enum class Sought { nothing, words, several_words, files, folders, catalogs };

struct Value {
    Sought sought = Sought::nothing;
    std::string what;  // empty: nothing stands there
    std::vector<std::string> words;
};
Value value_of(const CLI::Option& option);

// What `dredger help` takes.
std::vector<std::string> helped_with(const CLI::App& program);

std::vector<const CLI::Option*> options_of(const CLI::App& command, bool positional);
// 'text', for any of the shells.
std::string quoted(const std::string& text);
// Words with blanks between, quoted where they need it.
std::string quoted_list(const std::vector<std::string>& words);

}  // namespace dredger::manual

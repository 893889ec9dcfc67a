#include "manual/completion/values.h"

#include <fmt/format.h>

#include "cli/help.h"
#include "cli/takes.h"

namespace dredger::manual {

Value value_of(const CLI::Option& option) {
    const cli::Takes taken = cli::takes(option);
    Value value{Sought::nothing, taken.what, taken.words};
    if (!taken.words.empty())
        value.sought = taken.several ? Sought::several_words : Sought::words;
    else if (taken.what == "CATALOG")
        value.sought = Sought::catalogs;
    else if (taken.what == "FOLDER")
        value.sought = Sought::folders;
    else if (taken.what == "FILE" || taken.what == "PICKS" || taken.what == "SOURCE" || taken.what == "MEDIUM")
        value.sought = Sought::files;
    return value;
}

std::vector<const CLI::Option*> options_of(const CLI::App& command, bool positional) {
    return command.get_options([=](const CLI::Option* option) { return option->get_positional() == positional; });
}

std::vector<std::string> helped_with(const CLI::App& program) {
    std::vector<std::string> names = cli::names_within(program);
    for (const cli::Topic& topic : cli::topics()) names.emplace_back(topic.name);
    return names;
}

std::string quoted(const std::string& text) {
    std::string out = "'";
    for (const char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return out + "'";
}

std::string quoted_list(const std::vector<std::string>& words) {
    std::string out;
    for (const std::string& word : words)
        out += (out.empty() ? "" : " ") +
               (word.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.") == word.npos
                    ? word
                    : quoted(word));
    return out;
}

}  // namespace dredger::manual

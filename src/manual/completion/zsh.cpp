#include <fmt/format.h>

#include "cli/takes.h"
#include "manual/completion/completion.h"
#include "manual/completion/values.h"

namespace dredger::manual {
namespace {

// Within an argument of _arguments: what ends its parts stands behind a backslash.
std::string zsh_text(const std::string& text) {
    std::string out;
    for (const char c : text) {
        if (c == '[' || c == ']' || c == ':' || c == '\\') out += '\\';
        out += c;
    }
    return out;
}

std::string zsh_of(const Value& value) {
    switch (value.sought) {
        case Sought::words: return fmt::format("({})", fmt::join(value.words, " "));
        case Sought::several_words: {
            std::string words;
            for (const std::string& word : value.words) words += fmt::format(" \"{}\"", word);
            return fmt::format("_values -s , {}{}", value.what, words);
        }
        case Sought::files: return "_files";
        case Sought::folders: return "_files -/";
        case Sought::catalogs: return "_files -g \"*.dredge\"";
        case Sought::nothing: break;
    }
    return " ";
}

std::string zsh_arguments(const CLI::App& command) {
    std::string out;
    for (const CLI::Option* option : options_of(command, false)) {
        const Value value = value_of(*option);
        const auto names = cli::names_of(*option);
        const bool repeats = cli::takes(*option).repeats;
        std::string excluded = repeats ? "*" : fmt::format("({})", fmt::join(names, " "));
        std::string told = fmt::format("[{}]", zsh_text(option->get_description()));
        if (!value.what.empty()) told += fmt::format(":{}:{}", value.what, zsh_of(value));
        for (const std::string& name : names)
            out += " \\\n                " + quoted(excluded + name + (value.what.empty() ? "" : "=") + told);
    }
    for (const CLI::Option* option : options_of(command, true)) {
        const Value value = value_of(*option);
        out += " \\\n                " +
               quoted(fmt::format("{}:{}:{}", cli::takes(*option).repeats ? "*" : "", value.what, zsh_of(value)));
    }
    return out;
}

std::string zsh_commands(const CLI::App& above) {
    std::string out;
    for (const CLI::App* one : cli::commands_of(above))
        out += " \\\n                " + quoted(one->get_name() + ":" + zsh_text(one->get_description()));
    return out;
}

// What stands behind each command.
std::string zsh_cases(const CLI::App& program) {
    std::string out;
    for (const CLI::App* command : cli::all_commands_of(program)) {
        out += fmt::format("        {})\n", quoted(cli::path_below_program(*command)));
        if (cli::commands_of(*command).empty())
            out += fmt::format("            _arguments -s{}\n", zsh_arguments(*command));
        else
            out += fmt::format("            local -a within=({})\n            _describe command within\n",
                               zsh_commands(*command));
        out += "            ;;\n";
    }
    return out;
}

}  // namespace

std::string zsh_completion(const CLI::App& program) {
    const std::string cases = zsh_cases(program);
    std::string above;
    for (const CLI::App* command : cli::all_commands_of(program))
        if (!cli::commands_of(*command).empty())
            above += (above.empty() ? "" : "|") + cli::path_below_program(*command);
    return fmt::format(
        "#compdef dredger\n"
        "# Completion of dredger for zsh.\n\n"
        "_dredger() {{\n"
        "    local -a commands=({} \\\n                'help:how a command is used')\n"
        "    if ((CURRENT == 2)); then\n"
        "        _describe command commands\n"
        "        return\n"
        "    fi\n"
        "    local command=$words[2]\n"
        "    shift words\n"
        "    ((CURRENT--))\n"
        "    if [[ $command == ({}) && CURRENT -gt 2 ]]; then\n"
        "        command=\"$command $words[2]\"\n"
        "        shift words\n"
        "        ((CURRENT--))\n"
        "    fi\n"
        "    case $command in\n"
        "        help)\n"
        "            _values topic {}\n"
        "            ;;\n{}"
        "    esac\n"
        "}}\n\n"
        "_dredger \"$@\"\n",
        zsh_commands(program), above, quoted_list(helped_with(program)), cases);
}

}  // namespace dredger::manual

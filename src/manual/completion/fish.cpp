#include <fmt/format.h>

#include "cli/takes.h"
#include "manual/completion/completion.h"
#include "manual/completion/values.h"

namespace dredger::manual {
namespace {

constexpr std::string_view kFishHead = R"fish(# Completion of dredger for fish.

# Whether the command line is one of this command: dredger picks add ...
function __dredger_is
    set -l words (commandline -opc)
    set -l last (math (count $argv) + 1)
    test (count $words) -ge $last; and test "$words[2..$last]" = "$argv"
end

# Whether the name of a command comes next, behind these.
function __dredger_wants_command
    set -l words (commandline -opc)
    test (count $words) -eq (math (count $argv) + 1); and test "$words[2..]" = "$argv"
end

complete -c dredger -f
)fish";

std::string fish_of(const Value& value) {
    switch (value.sought) {
        case Sought::words: return " -x -a " + quoted(fmt::format("{}", fmt::join(value.words, " ")));
        case Sought::several_words:
            return " -x -a " +
                   quoted(fmt::format("(__fish_complete_list , \"string split , '{}'\")", fmt::join(value.words, ",")));
        case Sought::files: return " -r -F";
        case Sought::folders: return " -x -a '(__fish_complete_directories)'";
        case Sought::catalogs: return " -x -a '(__fish_complete_suffix .dredge)'";
        case Sought::nothing: break;
    }
    return " -x";
}

}  // namespace

std::string fish_completion(const CLI::App& program) {
    std::string out(kFishHead);
    const auto add_names = [&](const CLI::App& above) {
        const std::string path = cli::path_below_program(above);
        for (const CLI::App* one : cli::commands_of(above))
            out += fmt::format("complete -c dredger -n '__dredger_wants_command{}' -a {} -d {}\n",
                               path.empty() ? "" : " " + path, one->get_name(), quoted(one->get_description()));
    };
    add_names(program);
    out += fmt::format(
        "complete -c dredger -n __dredger_wants_command -a help -d 'how a command is used'\n"
        "complete -c dredger -n '__dredger_wants_command help' -a {}\n",
        quoted(fmt::format("{}", fmt::join(helped_with(program), " "))));
    for (const CLI::App* command : cli::all_commands_of(program)) {
        add_names(*command);
        const std::string head =
            fmt::format("complete -c dredger -n '__dredger_is {}'", cli::path_below_program(*command));
        for (const CLI::Option* option : options_of(*command, false)) {
            out += head;
            for (const std::string& name : option->get_snames()) out += " -s " + name;
            for (const std::string& name : option->get_lnames()) out += " -l " + name;
            const Value value = value_of(*option);
            if (!value.what.empty()) out += fish_of(value);
            out += " -d " + quoted(option->get_description()) + "\n";
        }
        for (const CLI::Option* option : options_of(*command, true)) {
            const Value value = value_of(*option);
            if (value.sought == Sought::catalogs)
                out += head + " -a '(__fish_complete_suffix .dredge)'\n";
            else if (value.sought == Sought::files)
                out += head + " -F\n";
            else if (value.sought == Sought::folders)
                out += head + " -a '(__fish_complete_directories)'\n";
        }
    }
    return out;
}

}  // namespace dredger::manual

#include <fmt/format.h>

#include "cli/takes.h"
#include "manual/completion/completion.h"
#include "manual/completion/values.h"

namespace dredger::manual {
namespace {

constexpr std::string_view kBashHead = R"bash(# Completion of dredger for bash.

_dredger_words() {
    local word
    for word in "$@"; do
        [[ $word == "$cur"* ]] && COMPREPLY+=("$(printf %q "$word")")
    done
}

# Words with commas between: the last one is completed.
_dredger_several() {
    local before="" last=$cur word
    if [[ $cur == *,* ]]; then
        before=${cur%,*},
        last=${cur##*,}
    fi
    for word in "$@"; do
        [[ $word == "$last"* ]] && COMPREPLY+=("$(printf %q "$before$word")")
    done
    compopt -o nospace 2>/dev/null
}

_dredger_files() {
    compopt -o filenames 2>/dev/null
    mapfile -t COMPREPLY < <(compgen -f -- "$cur")
}

_dredger_folders() {
    compopt -o filenames 2>/dev/null
    mapfile -t COMPREPLY < <(compgen -d -- "$cur")
}

_dredger_catalogs() {
    compopt -o filenames 2>/dev/null
    mapfile -t COMPREPLY < <(compgen -f -X '!*.dredge' -- "$cur"; compgen -d -- "$cur")
}

_dredger() {
    local cur=${COMP_WORDS[COMP_CWORD]} prev=${COMP_WORDS[COMP_CWORD - 1]} command="" n
    COMPREPLY=()
    if [[ $cur == "=" ]]; then
        cur=""
    elif [[ $prev == "=" ]]; then
        prev=${COMP_WORDS[COMP_CWORD - 2]}
    fi
)bash";

std::string bash_of(const Value& value) {
    switch (value.sought) {
        case Sought::words: return "_dredger_words " + quoted_list(value.words);
        case Sought::several_words: return "_dredger_several " + quoted_list(value.words);
        case Sought::files: return "_dredger_files";
        case Sought::folders: return "_dredger_folders";
        case Sought::catalogs: return "_dredger_catalogs";
        case Sought::nothing: break;
    }
    return ":";
}

}  // namespace

std::string bash_completion(const CLI::App& program) {
    std::string out(kBashHead), known, values, options, others;
    const auto add_case = [](std::string& cases, const std::string& pattern, const std::string& deed) {
        cases += fmt::format("        {}) {} ;;\n", pattern, deed);
    };
    for (const CLI::App* command : cli::all_commands_of(program)) {
        const std::string path = cli::path_below_program(*command);
        known += fmt::format("{}{}", known.empty() ? "" : "|", quoted(path));
        std::vector<std::string> names;
        for (const CLI::Option* option : options_of(*command, false)) {
            const auto of_option = cli::names_of(*option);
            names.push_back(of_option.back());
            const Value value = value_of(*option);
            if (value.what.empty()) continue;
            std::string pattern;
            for (const std::string& name : of_option)
                pattern += (pattern.empty() ? "" : "|") + quoted(path + ":" + name);
            add_case(values, pattern, bash_of(value) + "; return");
        }
        add_case(options, quoted(path), "_dredger_words " + quoted_list(names));
        const auto positionals = options_of(*command, true);
        if (!cli::commands_of(*command).empty())
            add_case(others, quoted(path), "_dredger_words " + quoted_list(cli::names_within(*command)));
        else if (!positionals.empty())
            // Where it takes several things a path of any of them may stand.
            add_case(others, quoted(path),
                     positionals.size() == 1 ? bash_of(value_of(*positionals.front())) : "_dredger_files");
    }
    out += fmt::format(
        "    for ((n = 1; n < COMP_CWORD; ++n)); do\n"
        "        case \"${{command:+$command }}${{COMP_WORDS[n]}}\" in\n"
        "            {}|help) command=\"${{command:+$command }}${{COMP_WORDS[n]}}\" ;;\n"
        "            *) break ;;\n"
        "        esac\n"
        "    done\n"
        "    case $command:$prev in\n{}    esac\n"
        "    if [[ $cur == -* ]]; then\n"
        "        case $command in\n"
        "        '') _dredger_words --help --version ;;\n{}        esac\n"
        "        return\n"
        "    fi\n"
        "    case $command in\n"
        "        '') _dredger_words {} help ;;\n"
        "        help) _dredger_words {} ;;\n{}    esac\n"
        "}}\n"
        "complete -F _dredger dredger\n",
        known, values, options, quoted_list(cli::names_within(program)), quoted_list(helped_with(program)), others);
    return out;
}

}  // namespace dredger::manual

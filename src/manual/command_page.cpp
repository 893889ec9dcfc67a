#include "manual/command_page.h"

#include <algorithm>
#include <cctype>
#include <fmt/format.h>

#include "cli/help.h"
#include "cli/manner.h"
#include "cli/selection_options.h"
#include "cli/takes.h"
#include "manual/roff.h"

namespace dredger::manual {
namespace {

constexpr std::string_view kExamples = "Examples:\n";

std::vector<const CLI::Option*> positionals_of(const CLI::App& command) {
    return command.get_options([](const CLI::Option* option) { return option->get_positional(); });
}

// ".B dredger scan" and what may stand behind it.
std::string synopsis(const CLI::App& command) {
    std::string out = fmt::format(".B {}\n", escaped(cli::path_of(command)));
    if (!cli::commands_of(command).empty()) return out + ".I COMMAND\n[\\fIoption\\fR ...]\n";
    out += "[\\fIoption\\fR ...]";
    for (const CLI::Option* option : positionals_of(command)) {
        const std::string name =
            fmt::format("\\fI{}\\fR{}", escaped(cli::takes(*option).what), cli::takes(*option).repeats ? " ..." : "");
        out += option->get_required() ? " " + name : " [" + name + "]";
    }
    return out + "\n";
}

std::string option_entry(const CLI::Option& option) {
    const cli::Takes taken = cli::takes(option);
    std::string head =
        option.get_positional()
            ? fmt::format("\\fI{}\\fR", escaped(taken.what))
            : fmt::format("\\fB{}\\fR", escaped(fmt::format("{}", fmt::join(cli::names_of(option), ", "))));
    if (!option.get_positional() && !taken.what.empty()) head += fmt::format(" \\fI{}\\fR", escaped(taken.what));
    std::string entry = fmt::format(".TP\n{}\n{}\n", head, escaped(option.get_description()));
    const bool are_told = std::all_of(taken.words.begin(), taken.words.end(), [&](const std::string& word) {
        return option.get_description().find(word) != std::string::npos;
    });
    if (!are_told) entry += fmt::format("({})\n", escaped(fmt::format("{}", fmt::join(taken.words, ", "))));
    return entry;
}

std::string in_capitals(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return text;
}

std::string section(const CLI::App& command, const std::string& title, const std::string& group) {
    std::string out;
    for (const CLI::Option* option : cli::options_of(command, group)) out += option_entry(*option);
    return out.empty() ? "" : fmt::format(".SH {}\n{}", in_capitals(title), out);
}

// Of what stands behind the options in the help: the examples, and the rest.
struct Footer {
    std::string examples, rest;
};
Footer footer_of(const CLI::App& command) {
    const std::string text = command.get_footer();
    if (!text.starts_with(kExamples)) return {"", text};
    const std::size_t end = std::min(text.size(), text.find("\n\n"));
    return {text.substr(kExamples.size(), end - kExamples.size()), text.substr(std::min(text.size(), end + 2))};
}

std::string commands_within(const CLI::App& command) {
    std::string out;
    for (const CLI::App* one : cli::commands_of(command))
        out += fmt::format(".TP\n\\fB{}\\fR(1)\n{}\n", escaped(page_name(*one)), escaped(one->get_description()));
    return out.empty() ? "" : ".SH COMMANDS\n" + out;
}

std::string topics() {
    std::string out;
    for (const cli::Topic& topic : cli::topics()) {
        std::string title = in_capitals(std::string(topic.name));
        std::replace(title.begin(), title.end(), '-', ' ');
        out += fmt::format(".SH {}\n{}", title, prose(topic.text));
    }
    return out;
}

constexpr std::string_view kProgramsEnd = R"(.SH FILES
.TP
.I \(ti/.config/dredger/config.toml
What you want of every run; see \fBdredger\-settings\fR(5).
.TP
.I dredger.toml
The same for the current folder; it goes before the other.
.SH ENVIRONMENT
.TP
.B XDG_CONFIG_HOME
Where the folder of settings lies, instead of \(ti/.config.
.TP
.B DREDGER_CONFIG
Another file instead of config.toml.
.TP
.B PAGER
Shows what is longer than the screen.
.TP
.B COLUMNS
How wide lines may be, also in a pipe.
.TP
.B NO_COLOR
Turns colours off.
.SH SEE ALSO
.BR dredger (7),
.BR dredger\-catalog (5),
.BR dredger\-formats (5),
.BR dredger\-picks (5),
.BR dredger\-settings (5)
)";

}  // namespace

std::string page_name(const CLI::App& command) {
    std::string name = cli::path_of(command);
    std::replace(name.begin(), name.end(), ' ', '-');
    return name;
}

std::string command_page(const CLI::App& command, std::string_view date) {
    const bool is_program = command.get_parent() == nullptr;
    const std::string name = page_name(command), description = command.get_description();
    const std::string first = description.substr(0, description.find('\n'));
    const Footer footer = footer_of(command);
    std::string brief = is_program ? "bring back deleted files from drives, memory cards and disk images" : first;
    brief.front() = static_cast<char>(std::tolower(static_cast<unsigned char>(brief.front())));
    std::string page = page_head(name, 1, date);
    page += fmt::format(".SH NAME\n{} \\- {}\n.SH SYNOPSIS\n{}", escaped(name), escaped(brief), synopsis(command));
    page += ".SH DESCRIPTION\n" + escaped(description) + (description.ends_with('.') ? "\n" : ".\n");
    if (!is_program) page += prose(footer.rest);
    page += commands_within(command);
    std::string taken;
    for (const CLI::Option* option : positionals_of(command)) taken += option_entry(*option);
    if (!taken.empty()) page += ".SH ARGUMENTS\n" + taken;
    page += section(command, "Options", cli::kOwnGroup);
    page += section(command, "Selection", cli::kSelectionGroup);
    page += section(command, "In every command", cli::kMannerGroup);
    if (is_program) page += topics();
    if (!footer.examples.empty()) page += ".SH EXAMPLES\n" + prose(footer.examples);
    page += is_program ? std::string(kProgramsEnd)
                       : fmt::format(
                             ".SH EXIT STATUS\n0 when done, 1 when done in part; all are in \\fBdredger\\fR(1).\n"
                             ".SH SEE ALSO\n.BR dredger (1){}\n",
                             command.get_parent()->get_parent() == nullptr
                                 ? ",\n.BR dredger (7)"
                                 : fmt::format(",\n.BR {} (1)", escaped(page_name(*command.get_parent()))));
    return without_empty_paragraphs(std::move(page));
}

}  // namespace dredger::manual

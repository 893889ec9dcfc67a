#include <CLI/CLI.hpp>
#include <cstdlib>
#include <fmt/format.h>
#include <set>

#include "cli/commands.h"
#include "cli/json.h"
#include "cli/manner.h"
#include "cli/selection_options.h"
#include "cli/settings.h"
#include "cli/table.h"
#include "cli/takes.h"
#include "cli/terminal.h"
#include "cli/words.h"

namespace dredger::cli {
namespace {

struct Options {
    bool all = false, json = false;
};

// Variables of the environment that say how the program behaves.
constexpr const char* kVariables[] = {"COLUMNS", "DREDGER_CONFIG", "NO_COLOR", "PAGER"};

struct Row {
    const Setting* setting;
    bool holds;  // for one command at least
};

// Which settings hold somewhere, and which are overridden by others wherever they would.
std::vector<Row> rows_of(const Settings& settings, const CLI::App& program) {
    std::set<const Setting*> holding;
    for (const CLI::App* command : running_commands_of(program))
        for (const CLI::Option* option : command->get_options())
            holding.insert(settings.holding(path_below_program(*command), *option));
    std::vector<Row> rows;
    for (const Setting& setting : settings.all) rows.push_back({&setting, holding.contains(&setting)});
    return rows;
}

std::string said(const SettingsFile& file) {
    if (!file.exists) return "there is none";
    return file.refused.empty() ? "read" : "not used: " + file.refused;
}

void print_json(const Settings& settings, const std::vector<Row>& rows) {
    Json files = Json::array(), list = Json::array(), variables = Json::object();
    for (const SettingsFile& file : settings.files)
        files.push_back({{"path", file.path.string()}, {"exists", file.exists}, {"refused", file.refused}});
    for (const Row& row : rows)
        list.push_back({{"command", row.setting->command},
                        {"option", row.setting->option},
                        {"values", row.setting->values},
                        {"file", row.setting->file.string()},
                        {"line", row.setting->line},
                        {"holds", row.holds}});
    for (const char* name : kVariables)
        if (const char* value = std::getenv(name)) variables[name] = value;
    print_document({{"files", files}, {"settings", list}, {"environment", variables}});
}

void print_settings(const Settings& settings, const std::vector<Row>& rows) {
    for (const SettingsFile& file : settings.files) fmt::print("{}: {}\n", printable(file.path.string()), said(file));
    Table table({{"OPTION"}, {"VALUE"}, {.title = "COMMAND", .may_be_left_out = true}, {"FROM"}});
    for (const auto& [setting, holds] : rows)
        table.add({setting->option, printable(fmt::format("{}", fmt::join(setting->values, ", "))),
                   setting->command.empty() ? "-" : setting->command,
                   printable(setting->where()) + (holds ? "" : " (another goes before it)")});
    for (const char* name : kVariables)
        if (const char* value = std::getenv(name)) table.add({name, printable(value), "-", "the environment"});
    if (!table.empty()) {
        fmt::print("\n");
        table.print();
    }
    if (settings.all.empty())
        tell(
            "\nNo file says anything: all is as the commands' --help tells. A file to begin with:\n"
            "  dredger config --all > dredger.toml\n");
}

// "\"kind\"" of what an option takes, as an example that can stand in the file.
std::string example_of(const Takes& taken) {
    if (taken.what.empty()) return "true";
    if (taken.is_number) return "1";
    if (taken.several) return fmt::format("[\"{}\"]", taken.words.front());
    if (!taken.words.empty()) return fmt::format("\"{}\"", taken.words.front());
    return taken.repeats ? "[\"\"]" : "\"\"";
}

void print_keys(const CLI::App& command, const std::string& group, std::set<std::string>& told) {
    for (const CLI::Option* option : options_of(command, group)) {
        if (is_said_each_time(*option) || option->get_lnames().empty()) continue;
        const std::string& name = option->get_lnames().front();
        if (!told.insert(name).second) continue;
        fmt::print("# {}\n#{} = {}\n", option->get_description(), name, example_of(takes(*option)));
    }
}

// A file with every key that can stand in it, none of which says anything yet.
void print_all_keys(const CLI::App& program) {
    fmt::print(
        "# What you want of every run. The first # of a line is for you to take away. The command line goes\n"
        "# before what stands here.\n\n");
    std::set<std::string> told;
    const auto commands = running_commands_of(program);
    fmt::print("# For every command.\n");
    for (const CLI::App* command : commands) print_keys(*command, kMannerGroup, told);
    fmt::print("\n# For every command that takes a selection.\n");
    for (const CLI::App* command : commands) print_keys(*command, kSelectionGroup, told);
    for (const CLI::App* command : commands) {
        if (options_of(*command, kOwnGroup).size() < 2) continue;  // --help
        std::string table = path_below_program(*command);
        std::replace(table.begin(), table.end(), ' ', '.');
        fmt::print("\n#[{}]\n", table);
        std::set<std::string> of_command;
        print_keys(*command, kOwnGroup, of_command);
    }
}

int config(const Options& options, const CLI::App& program) {
    if (options.all) {
        print_all_keys(program);
        return kDone;
    }
    const auto settings = read_settings(program);
    if (!settings) return report(settings.error());
    const auto rows = rows_of(*settings, program);
    if (options.json)
        print_json(*settings, rows);
    else
        print_settings(*settings, rows);
    return kDone;
}

}  // namespace

void add_config(CLI::App& program, int& exit_code) {
    CLI::App* command = program.add_subcommand("config", "Show what your settings say, and where that stands");
    auto options = std::make_shared<Options>();
    command->add_flag("--all", options->all, "every key that may stand in a file of settings, as a file to begin with");
    command->add_flag("--json", options->json, "as JSON (docs/json.md)");
    command->footer(
        "Examples:\n"
        "  dredger config\n"
        "  dredger config --all > dredger.toml\n"
        "\nSettings stand in ~/.config/dredger/config.toml and in dredger.toml of the current folder. "
        "docs/settings.md\n"
        "says more.");
    command->callback([options, &program, &exit_code] { exit_code = config(*options, program); });
}

}  // namespace dredger::cli

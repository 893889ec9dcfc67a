#include "cli/settings.h"

#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <set>
#include <span>
#include <sys/stat.h>
#include <toml++/toml.h>
#include <unistd.h>

#include "cli/takes.h"

namespace dredger::cli {
namespace {

namespace fs = std::filesystem;

fs::path users_file() {
    if (const char* named = std::getenv("DREDGER_CONFIG"); named != nullptr) return named;
    if (const char* folder = std::getenv("XDG_CONFIG_HOME"); folder != nullptr && *folder != '\0')
        return fs::path(folder) / "dredger" / "config.toml";
    if (const char* home = std::getenv("HOME"); home != nullptr) return fs::path(home) / ".config/dredger/config.toml";
    return {};
}

// The current folder may be a customer's: what others can write there says nothing here.
std::string why_not_trusted(const fs::path& file) {
    struct stat facts {};
    if (::stat(file.c_str(), &facts) != 0) return {};
    if (facts.st_uid != ::geteuid() && facts.st_uid != 0) return "it belongs to another user";
    if ((facts.st_mode & S_IWOTH) != 0) return "everybody may write to it";
    return {};
}

// The commands that a key above them is for: those that run below this one, or itself.
std::vector<const CLI::App*> commands_meant(const CLI::App& above) {
    auto commands = running_commands_of(above);
    if (commands.empty()) commands.push_back(&above);
    return commands;
}

const CLI::Option* option_of(const CLI::App& command, const std::string& name) {
    return command.get_option_no_throw("--" + name);
}

// What is wrong with a value of an option; empty: nothing.
std::string fault_of(const CLI::Option& option, const std::string& value) {
    const Takes taken = takes(option);
    const auto known = [&](const std::string& word) {
        return std::find(taken.words.begin(), taken.words.end(), word) != taken.words.end();
    };
    if (taken.several) {
        std::string unknown;
        for (const auto& part : CLI::detail::split(value, ','))
            if (!known(CLI::detail::trim_copy(part)) && unknown.empty()) unknown = CLI::detail::trim_copy(part);
        return unknown.empty() ? "" : fmt::format("{} is none of {}", unknown, fmt::join(taken.words, ", "));
    }
    if (!taken.words.empty())
        return known(value) ? "" : fmt::format("{} is none of {}", value, fmt::join(taken.words, ", "));
    if (taken.is_number) {
        double number = 0;
        if (!CLI::detail::lexical_cast(value, number)) return fmt::format("{} is no number", value);
    }
    for (const CLI::Validator* validator : validators_of(option)) {
        std::string text = value;
        // Of numbers the library tells the largest one, written out.
        if (const std::string fault = (*validator)(text); !fault.empty())
            return fault.find(" not in range ") == fault.npos ? fault : fmt::format("{} can't be", value);
    }
    return {};
}

// The values of a node, as a command line would have them; why it can't be one otherwise.
tl::expected<std::vector<std::string>, std::string> values_of(const toml::node& node, const CLI::Option& option) {
    const Takes taken = takes(option);
    if (taken.what.empty()) {
        const auto is_on = node.value_exact<bool>();
        if (!is_on) return tl::unexpected<std::string>("it is true or false");
        return std::vector<std::string>{*is_on ? "true" : "false"};
    }
    std::vector<std::string> values;
    const auto take = [&](const toml::node& one) {
        if (const auto text = one.value_exact<std::string>()) values.push_back(*text);
        if (const auto number = one.value_exact<std::int64_t>()) values.push_back(std::to_string(*number));
        if (const auto number = one.value_exact<double>()) values.push_back(fmt::format("{}", *number));
        if (const auto day = one.value_exact<toml::date>())
            values.push_back(fmt::format("{:04}-{:02}-{:02}", day->year, unsigned{day->month}, unsigned{day->day}));
    };
    std::size_t given = 1;
    if (const toml::array* list = node.as_array()) {
        given = list->size();
        for (const toml::node& one : *list) take(one);
    } else {
        take(node);
    }
    if (values.empty() || values.size() != given)
        return tl::unexpected(
            fmt::format("it is a text or a number{}", taken.several || taken.repeats ? ", or a list of them" : ""));
    if (!taken.repeats && values.size() > 1) {
        if (!taken.several) return tl::unexpected<std::string>("it takes one value");
        values = {fmt::format("{}", fmt::join(values, ","))};
    }
    for (const std::string& value : values)
        if (std::string fault = fault_of(option, value); !fault.empty()) return tl::unexpected(std::move(fault));
    return values;
}

class SettingsReader {
  public:
    SettingsReader(const CLI::App& program, fs::path file, std::vector<Setting>& all)
        : program_(program), file_(std::move(file)), all_(all) {}

    Result<void> read() {
        toml::table table;
        try {
            table = toml::parse_file(file_.string());
        } catch (const toml::parse_error& error) {
            return wrong(error.source(), std::string(error.description()));
        }
        const auto first = static_cast<std::ptrdiff_t>(all_.size());
        DREDGER_CHECK(read_table(table, program_));
        // The library tells tables by the names of their keys.
        std::stable_sort(all_.begin() + first, all_.end(),
                         [](const Setting& a, const Setting& b) { return a.line < b.line; });
        return {};
    }

  private:
    tl::unexpected<Error> wrong(const toml::source_region& where, const std::string& what) const {
        return fail(ErrorKind::usage, what, fmt::format("{}, line {}", file_.string(), where.begin.line),
                    "dredger config --all shows what may stand there (docs/settings.md)");
    }

    // The keys of a table; those of the commands below `above` are tables within.
    Result<void> read_table(const toml::table& table, const CLI::App& above) {
        const auto within = commands_of(above);
        for (const auto& [key, node] : table) {
            const auto command = std::find_if(within.begin(), within.end(),
                                              [&](const CLI::App* one) { return one->get_name() == key.str(); });
            if (const toml::table* of_command = node.as_table()) {
                if (command == within.end())
                    return wrong(node.source(), fmt::format("there is no command {}", key.str()));
                DREDGER_CHECK(read_table(*of_command, **command));
            } else {
                DREDGER_CHECK(read_key(std::string(key.str()), node, above));
            }
        }
        return {};
    }

    // A key above several commands is for those that take it with this value.
    Result<void> read_key(const std::string& key, const toml::node& node, const CLI::App& above) {
        std::string fault, option = key;
        bool is_taken = false;
        Setting setting{path_below_program(above), "", {}, file_, node.source().begin.line};
        for (const CLI::App* command : commands_meant(above)) {
            const CLI::Option* found = option_of(*command, key);
            // Of what the command line can only turn off the file says that it is on.
            const bool is_turned_around = found == nullptr && (found = option_of(*command, "no-" + key)) != nullptr;
            if (found == nullptr) continue;
            if (is_said_each_time(*found))
                return wrong(node.source(), fmt::format("{} has to be said each time, on the command line", key));
            auto values = values_of(node, *found);
            if (!values) {
                fault = values.error();
                continue;
            }
            if (is_turned_around) values->front() = values->front() == "true" ? "false" : "true";
            setting.option = found->get_lnames().front();
            setting.values = std::move(*values);
            is_taken = true;
        }
        if (is_taken)
            all_.push_back(std::move(setting));
        else if (fault.empty())
            return wrong(node.source(), above.get_parent() == nullptr
                                            ? fmt::format("nothing is known of {}", key)
                                            : fmt::format("{} takes no {}", path_below_program(above), key));
        else
            return wrong(node.source(), fmt::format("{}: {}", key, fault));
        return {};
    }

    const CLI::App& program_;
    fs::path file_;
    std::vector<Setting>& all_;
};

// The options that a command line gives, as the argument library reads it.
std::set<const CLI::Option*> options_given(const CLI::App& command, std::span<const std::string> words) {
    std::set<const CLI::Option*> given;
    for (const std::string& word : words) {
        if (word == "--") break;
        if (word.starts_with("--")) {
            given.insert(option_of(command, word.substr(2, word.find('=') - 2)));
        } else if (word.starts_with('-')) {
            for (const char letter : word.substr(1)) {
                const CLI::Option* option = command.get_option_no_throw(std::string("-") + letter);
                given.insert(option);
                if (option == nullptr || !takes(*option).what.empty()) break;  // the rest is its value
            }
        }
    }
    given.erase(nullptr);
    return given;
}

bool is_on_its_way(const std::string& above, const std::string& command) {
    return above.empty() || command == above || command.starts_with(above + " ");
}

}  // namespace

std::string Setting::where() const { return fmt::format("{}, line {}", file.string(), line); }

bool is_said_each_time(const CLI::Option& option) {
    static const std::set<std::string> names = {"onto-same-drive", "from-changed-source", "help", "version"};
    return !option.get_lnames().empty() && names.contains(option.get_lnames().front());
}

const Setting* Settings::holding(const std::string& command, const CLI::Option& option) const {
    // Of one file what is for the command goes before what is for all; a later file goes before both.
    const Setting* best = nullptr;
    for (const Setting& setting : all) {
        const auto& names = option.get_lnames();
        if (std::find(names.begin(), names.end(), setting.option) == names.end()) continue;
        if (!is_on_its_way(setting.command, command)) continue;
        if (std::any_of(setting.values.begin(), setting.values.end(),
                        [&](const std::string& value) { return !fault_of(option, value).empty(); }))
            continue;
        if (best == nullptr || best->file != setting.file || setting.command.size() >= best->command.size())
            best = &setting;
    }
    return best;
}

Result<Settings> read_settings(const CLI::App& program) {
    Settings settings;
    for (const fs::path& path : {users_file(), fs::path("dredger.toml")}) {
        if (path.empty()) continue;
        std::error_code failed;
        SettingsFile file{path, fs::exists(path, failed), {}};
        if (file.exists && path.is_relative()) file.refused = why_not_trusted(path);
        if (file.exists && file.refused.empty()) DREDGER_CHECK(SettingsReader(program, path, settings.all).read());
        settings.files.push_back(std::move(file));
    }
    return settings;
}

std::vector<std::string> with_settings(const std::vector<std::string>& words, const CLI::App& program,
                                       const Settings& settings) {
    if (settings.all.empty()) return words;
    const CLI::App* command = &program;
    std::size_t behind = 0;
    while (behind < words.size()) {
        const auto within = commands_of(*command);
        const auto next = std::find_if(within.begin(), within.end(),
                                       [&](const CLI::App* one) { return one->get_name() == words[behind]; });
        if (next == within.end()) break;
        command = *next;
        ++behind;
    }
    if (!commands_of(*command).empty()) return words;
    const auto given = options_given(*command, std::span(words).subspan(behind));
    std::vector<std::string> all(words.begin(), words.begin() + static_cast<std::ptrdiff_t>(behind));
    for (const CLI::Option* option : command->get_options()) {
        const auto excludes = option->get_excludes();
        const bool is_ruled_out =
            given.contains(option) || std::any_of(given.begin(), given.end(), [&](const auto* one) {
                return excludes.contains(const_cast<CLI::Option*>(one));
            });
        const Setting* setting = is_ruled_out ? nullptr : settings.holding(path_below_program(*command), *option);
        if (setting == nullptr) continue;
        const std::string name = "--" + option->get_lnames().front();
        for (const std::string& value : setting->values)
            if (!takes(*option).what.empty())
                all.push_back(name + "=" + value);
            else if (value == "true")
                all.push_back(name);
    }
    all.insert(all.end(), words.begin() + static_cast<std::ptrdiff_t>(behind), words.end());
    return all;
}

}  // namespace dredger::cli

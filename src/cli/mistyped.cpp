#include "cli/mistyped.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <numeric>

#include "cli/takes.h"

namespace dredger::cli {
namespace {

std::vector<std::string> names_of_options(const CLI::App& app) {
    std::vector<std::string> all;
    for (const CLI::Option* option : app.get_options())
        for (std::string& name : names_of(*option)) all.push_back(std::move(name));
    return all;
}

// How many letters must be put in, left out, changed or swapped.
std::size_t distance(std::string_view a, std::string_view b) {
    std::vector<std::vector<std::size_t>> cost(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i) cost[i][0] = i;
    std::iota(cost[0].begin(), cost[0].end(), std::size_t{0});
    for (std::size_t i = 1; i <= a.size(); ++i)
        for (std::size_t j = 1; j <= b.size(); ++j) {
            cost[i][j] = std::min(
                {cost[i - 1][j] + 1, cost[i][j - 1] + 1, cost[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0U : 1U)});
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                cost[i][j] = std::min(cost[i][j], cost[i - 2][j - 2] + 1);
        }
    return cost[a.size()][b.size()];
}

// The one of these that was meant, most likely; empty where none is near.
std::string nearest(const std::string& typed, const std::vector<std::string>& known) {
    std::string best;
    std::size_t least = std::max<std::size_t>(typed.size() / 3, 1) + 1;
    for (const std::string& one : known) {
        std::size_t far = distance(typed, one);
        if (one.starts_with(typed) && typed.size() > 2) far = std::min<std::size_t>(far, 1);
        if (far < least) {
            least = far;
            best = one;
        }
    }
    return best;
}

// The command that was chosen, with its own command where it has some.
const CLI::App& innermost(const CLI::App& program) {
    const CLI::App* app = &program;
    while (!app->get_subcommands().empty()) app = app->get_subcommands().front();
    return *app;
}

// "--limit" of "--limit: Value ..." and "Could not convert: --limit = many".
std::string option_in(const std::string& text, const CLI::App& app) {
    std::string longest;
    for (const std::string& name : names_of_options(app)) {
        const std::size_t at = text.find(name);
        const bool is_whole =
            at != text.npos &&
            (at + name.size() == text.size() || std::string(" :=,").find(text[at + name.size()]) != std::string::npos);
        if (is_whole && name.size() > longest.size()) longest = name;
    }
    return longest;
}

// The first option that nobody took; empty where there is none.
std::string unknown_option(const CLI::App& program) {
    for (const std::string& word : program.remaining(true))
        if (word.size() > 1 && word.front() == '-') return word.substr(0, word.find('='));
    return {};
}

Error usage(std::string what, std::string hint) { return {ErrorKind::usage, std::move(what), "", std::move(hint)}; }

// A word too many, or an option that is not known.
Error told_of_extras(const CLI::ParseError& error, const std::string& unknown, const CLI::App& app,
                     const std::string& help) {
    if (unknown.empty()) {
        const std::string what = error.what();
        return usage("not expected here: " + what.substr(std::min(what.size(), what.rfind(": ") + 2)), help);
    }
    const std::string meant = nearest(unknown, names_of_options(app));
    return usage(fmt::format("{} is no option of {}", unknown, path_of(app)),
                 meant.empty() ? help : fmt::format("did you mean {}? {}", meant, help));
}

// The numbers in a text, in order.
std::vector<double> numbers_in(std::string_view text) {
    std::vector<double> numbers;
    for (std::size_t at = text.find_first_of("0123456789"); at < text.size();
         at = text.find_first_of("0123456789", at)) {
        double number = 0;
        const auto end = std::from_chars(text.data() + at, text.data() + text.size(), number).ptr;
        numbers.push_back(number);
        at = std::max(at + 1, static_cast<std::size_t>(end - text.data()));
    }
    return numbers;
}

// "--limit: Value 0 not in range 1.000000 to 1797...368.000000" (the largest double, written out),
// "--as: xml not in {table,jsonl,csv}", or a check's own words.
Error told_of_value(const std::string& text, const std::string& option, const std::string& help) {
    const std::size_t begin = option.size() + 2, not_in = text.find(" not in ");
    if (begin > text.size() || not_in == text.npos || not_in < begin) return usage(text, help);
    std::string typed = text.substr(begin, not_in - begin);
    if (typed.starts_with("Value ")) typed.erase(0, 6);
    std::string known = text.substr(not_in + 8);
    if (known.starts_with("range ")) {
        const auto bounds = numbers_in(known);
        // A bound that is the largest number there is says nothing.
        const bool is_bounded = bounds.size() == 2 && bounds.back() < 1e12;
        return usage(fmt::format("{}: {} can't be", option, typed),
                     is_bounded ? fmt::format("it takes a number from {} to {}", bounds.front(), bounds.back())
                                : "it takes a number, 1 or more");
    }
    const std::size_t open = known.find('{'), close = known.rfind('}');
    if (open == known.npos || close == known.npos || close < open) return usage(text, help);
    known = known.substr(open + 1, close - open - 1);
    for (std::size_t at = known.find(','); at != known.npos; at = known.find(',', at + 2)) known.insert(at + 1, " ");
    return usage(fmt::format("{}: {} is none of its values", option, typed), fmt::format("choose from {}", known));
}

Error told_of_command(const std::vector<std::string>& words, const CLI::App& app, const std::string& help) {
    const auto commands = names_within(app);
    const auto typed = std::find_if(words.begin(), words.end(), [&](const std::string& word) {
        return !word.starts_with('-') && word != app.get_name();
    });
    if (typed == words.end()) return usage(fmt::format("a command is needed: {}", fmt::join(commands, ", ")), help);
    const std::string meant = nearest(*typed, commands);
    return usage(fmt::format("there is no command {}", *typed),
                 meant.empty() ? fmt::format("{} --help shows them: {}", path_of(app), fmt::join(commands, ", "))
                               : fmt::format("did you mean {} {}?", path_of(app), meant));
}

}  // namespace

std::vector<std::string> understood(const std::vector<std::string>& words, const CLI::App& program) {
    std::vector<std::string> all = words;
    if (all.empty()) return all;
    if (all.front() == "help") {
        all.erase(all.begin());
        all.emplace_back("--help");
    }
    const auto commands = names_within(program);
    const auto fitting = [&](const std::string& word) {
        std::vector<std::string> list;
        for (const std::string& command : commands)
            if (command == word) return std::vector<std::string>{command};
        for (const std::string& command : commands)
            if (!word.empty() && command.starts_with(word)) list.push_back(command);
        return list;
    };
    const auto list = fitting(all.front());
    if (list.size() == 1) all.front() = list.front();
    // Of what is no command there is no help: it is told as one that was mistyped.
    if (words.front() == "help" && !all.front().starts_with('-') && list.size() != 1) all.pop_back();
    return all;
}

Error told(const CLI::ParseError& error, const std::vector<std::string>& words, const CLI::App& program) {
    const bool has_extras = dynamic_cast<const CLI::ExtrasError*>(&error) != nullptr;
    const bool lacks_something = dynamic_cast<const CLI::RequiredError*>(&error) != nullptr;
    const CLI::App& app = innermost(program);
    const std::string help = path_of(app) + " --help shows how";
    const std::string text = error.what();
    const std::string option = option_in(text, app);
    const std::string unknown = unknown_option(program);
    const bool lacks_command = app.get_require_subcommand_min() > 0 && app.get_subcommands().empty();
    const bool names_one =
        std::any_of(words.begin(), words.end(), [](const auto& word) { return !word.starts_with('-'); });
    if (lacks_command && (names_one || unknown.empty()) && (lacks_something || has_extras))
        return told_of_command(words, app, help);
    if (has_extras || (lacks_something && !unknown.empty())) return told_of_extras(error, unknown, app, help);
    if (lacks_something) return usage(text.substr(0, text.find(" is required")) + " is needed", help);
    if (option.empty()) return usage(text, help);
    if (dynamic_cast<const CLI::ArgumentMismatch*>(&error) != nullptr) return usage(option + " needs a value", help);
    if (dynamic_cast<const CLI::ConversionError*>(&error) != nullptr)
        return usage(option + ": this is no number", help);
    return told_of_value(text, option, help);
}

}  // namespace dredger::cli

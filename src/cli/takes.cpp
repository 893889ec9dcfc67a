#include "cli/takes.h"

#include <sstream>

#include "cli/word_options.h"

namespace dredger::cli {
namespace {

// Of "{one,two}"; none where it is told otherwise.
std::vector<std::string> words_in(const std::string& told) {
    std::vector<std::string> words;
    if (!told.starts_with('{') || !told.ends_with('}')) return words;
    std::istringstream list(told.substr(1, told.size() - 2));
    for (std::string word; std::getline(list, word, ',');) words.push_back(word);
    return words;
}

}  // namespace

std::vector<const CLI::Validator*> validators_of(const CLI::Option& option) {
    std::vector<const CLI::Validator*> all;
    // The library has no way to look at the validators of a constant option, nor to count them.
    auto& open = const_cast<CLI::Option&>(option);
    try {
        for (int n = 0;; ++n) all.push_back(open.get_validator(n));
    } catch (const CLI::OptionNotFound&) {
        return all;
    }
}

Takes takes(const CLI::Option& option) {
    Takes taken;
    if (option.get_items_expected_max() == 0) return taken;
    for (const CLI::Validator* validator : validators_of(option)) {
        if (auto words = words_in(validator->get_description()); !words.empty()) taken.words = std::move(words);
        taken.several = taken.several || validator->get_name() == kSeveral;
    }
    // Behind a colon the library tells what values are checked for.
    const std::string type = option.get_type_name();
    taken.what = type.substr(0, type.find(':'));
    const bool has_numbers_type = taken.what == "INT" || taken.what == "UINT" || taken.what == "FLOAT";
    taken.is_number = taken.words.empty() && (has_numbers_type || taken.what == "SECONDS" || taken.what == "ID");
    if (taken.several)
        taken.what = "WORDS";
    else if (!taken.words.empty())
        taken.what = "WORD";
    else if (has_numbers_type)
        taken.what = "NUMBER";
    if (option.get_positional()) taken.what = option.get_name(true);
    taken.repeats = option.get_items_expected_max() > 1;
    return taken;
}

std::vector<std::string> names_of(const CLI::Option& option) {
    std::vector<std::string> names;
    for (const std::string& name : option.get_snames()) names.push_back("-" + name);
    for (const std::string& name : option.get_lnames()) names.push_back("--" + name);
    return names;
}

std::vector<const CLI::Option*> options_of(const CLI::App& command, const std::string& group) {
    return command.get_options(
        [&](const CLI::Option* option) { return !option->get_positional() && option->get_group() == group; });
}

std::vector<const CLI::App*> commands_of(const CLI::App& command) {
    return command.get_subcommands([](const CLI::App* one) { return !one->get_group().empty(); });
}

std::vector<const CLI::App*> all_commands_of(const CLI::App& command) {
    std::vector<const CLI::App*> all;
    for (const CLI::App* one : commands_of(command)) {
        all.push_back(one);
        const auto below = all_commands_of(*one);
        all.insert(all.end(), below.begin(), below.end());
    }
    return all;
}

std::vector<const CLI::App*> running_commands_of(const CLI::App& command) {
    auto all = all_commands_of(command);
    std::erase_if(all, [](const CLI::App* one) { return !commands_of(*one).empty(); });
    return all;
}

std::vector<std::string> names_within(const CLI::App& command) {
    std::vector<std::string> names;
    for (const CLI::App* one : commands_of(command)) names.push_back(one->get_name());
    return names;
}

std::string path_below_program(const CLI::App& command) {
    if (command.get_parent() == nullptr) return {};
    const std::string above = path_below_program(*command.get_parent());
    return above.empty() ? command.get_name() : above + " " + command.get_name();
}

std::string path_of(const CLI::App& command) {
    const std::string path = path_below_program(command);
    return path.empty() ? "dredger" : "dredger " + path;
}

}  // namespace dredger::cli

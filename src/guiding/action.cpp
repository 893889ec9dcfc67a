#include "guiding/action.h"

#include <algorithm>
#include <fmt/format.h>

#include "catalog/selection.h"

namespace dredger::guiding {
namespace {

constexpr const char* kExpected = "write numbers like 7,12-40, or one of the letters";

// A single one, as --id takes it.
bool is_number(const std::string& text) {
    const auto ids = parse_ids(text);
    return ids && ids->size() == 1 && ids->front().from == ids->front().to &&
           text.find_first_not_of("0123456789") == text.npos;
}

}  // namespace

const std::vector<std::string>& action_lines() {
    static const std::vector<std::string> lines = {
        "7,12-40  take these          all  take all listed         m  more of the list",
        "s 7      show one            v    earlier states, copies  w  other files",
        "d        search the surface  f    finish"};
    return lines;
}

Result<Action> parse_action(const std::string& words) {
    using What = Action::What;
    static const std::vector<std::pair<const char*, What>> letters = {
        {"all", What::take_all}, {"a", What::take_all}, {"m", What::more},  {"v", What::lives},
        {"d", What::surface},    {"w", What::ask_anew}, {"f", What::finish}};
    for (const auto& [letter, what] : letters)
        if (words == letter) return Action{what, {}};
    if (words.starts_with("s")) {
        const auto number = words.find_first_not_of(' ', 1);
        if (number != words.npos && is_number(words.substr(number))) return Action{What::show, words.substr(number)};
        return fail(ErrorKind::usage, "show which one? Write its number behind the s: s 12", "");
    }
    std::string numbers = words;
    std::replace(numbers.begin(), numbers.end(), ' ', ',');
    for (auto at = numbers.find(",,"); at != numbers.npos; at = numbers.find(",,")) numbers.erase(at, 1);
    if (!parse_ids(numbers))
        return fail(ErrorKind::usage, fmt::format("\"{}\" is nothing to do here", words), "", kExpected);
    return Action{What::take, std::move(numbers)};
}

}  // namespace dredger::guiding

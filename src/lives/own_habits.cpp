#include "lives/own_habits.h"

#include <algorithm>
#include <fmt/format.h>
#include <toml++/toml.h>

#include "base/text.h"

namespace dredger::lives {
namespace {

constexpr std::string_view kWhereWords[] = {"beside", "above", "anywhere", "at path", "nowhere"};
constexpr const char* kHelp = "docs/lives.md has an example";

template <class Enum, std::size_t N>
std::optional<Enum> word_in(const std::string& word, const std::string_view (&words)[N]) {
    const auto* const found = std::find(std::begin(words), std::end(words), word);
    return found == std::end(words) ? std::nullopt : std::optional(static_cast<Enum>(found - std::begin(words)));
}

}  // namespace

Result<OwnHabits> OwnHabits::read(const std::filesystem::path& file) {
    std::error_code failed;
    if (!std::filesystem::exists(file, failed)) return fail(ErrorKind::usage, "no such file", file.string(), kHelp);
    toml::table table;
    try {
        table = toml::parse_file(file.string());
    } catch (const toml::parse_error& error) {
        return fail(ErrorKind::usage, std::string(error.description()),
                    fmt::format("{}, line {}", file.string(), error.source().begin.line), kHelp);
    }
    OwnHabits own;
    const toml::array* list = table["copy"].as_array();
    if (list == nullptr || list->empty())
        return fail(ErrorKind::usage, "there is no [[copy]] in it", file.string(), kHelp);
    for (const toml::node& node : *list) {
        const auto wrong = [&](std::string what) {
            return fail(ErrorKind::usage, std::move(what),
                        fmt::format("{}, line {}", file.string(), node.source().begin.line), kHelp);
        };
        const toml::table* one = node.as_table();
        if (one == nullptr) return wrong("a [[copy]] is a table");
        for (const auto& [key, value] : *one)
            if (key != "role" && key != "name" && key != "folder" && key != "where" && key != "extensions" &&
                key != "left-by" && key != "needs-document" && key != "by-content")
                return wrong(fmt::format("{} is not known here", key.str()));
        Habit habit;
        const std::string role = (*one)["role"].value_or(std::string());
        const auto known_role = word_in<Role>(role, kRoleWords);
        if (!known_role || *known_role == Role::none)
            return wrong(
                fmt::format("role is one of autosave, temporary, owner note, backup, history, swap, cache, "
                            "piece: {} is none",
                            role.empty() ? "nothing" : role));
        habit.role = *known_role;
        const std::string name = (*one)["name"].value_or(std::string());
        if (name.empty()) return wrong("a copy needs the pattern of its name: name = \"{stem}.bak\"");
        habit.name = own.keep(name);
        habit.folder = own.keep((*one)["folder"].value_or(std::string()));
        const std::string where = (*one)["where"].value_or(std::string("beside"));
        const auto known_where = word_in<Where>(where, kWhereWords);
        if (!known_where)
            return wrong(fmt::format("where is one of {}: {} is none", fmt::join(kWhereWords, ", "), where));
        habit.where = *known_where;
        habit.extensions = own.keep(folded((*one)["extensions"].value_or(std::string())));
        habit.left_by = own.keep((*one)["left-by"].value_or(std::string("a program of this shop's list")));
        habit.needs_document = (*one)["needs-document"].value_or(false);
        habit.by_content = (*one)["by-content"].value_or(false);
        own.habits_.push_back(habit);
    }
    return own;
}

}  // namespace dredger::lives

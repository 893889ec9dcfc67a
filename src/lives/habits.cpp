#include <algorithm>

#include "base/text.h"
#include "lives/habit.h"
#include "lives/habits/families.h"

namespace dredger::lives {
namespace {

// Extensions under which programs save one kind of document.
constexpr std::string_view kKin[] = {habits::kTexts, habits::kSheets, habits::kSlides};

bool is_listed(std::string_view list, std::string_view word) {
    for (std::size_t at = 0; at <= list.size();) {
        const std::size_t end = std::min(list.find(',', at), list.size());
        if (list.substr(at, end - at) == word) return true;
        at = end + 1;
    }
    return false;
}

}  // namespace

std::span<const Habit> all_habits() {
    static const std::vector<Habit> all = [] {
        std::vector<Habit> list;
        for (const auto family : {habits::kBackupTrees, habits::kOffice, habits::kEditors, habits::kDesign,
                                  habits::kTransfers, habits::kCaches, habits::kCheckers, habits::kEveryday})
            list.insert(list.end(), family.begin(), family.end());
        return list;
    }();
    return all;
}

Habits::Habits(std::span<const Habit> own) {
    for (const auto list : {own, all_habits()})
        for (const Habit& habit : list)
            prepared_.push_back({&habit, Pattern(habit.name),
                                 habit.folder.empty() ? std::nullopt : std::optional(Pattern(habit.folder))});
}

// From any folder of the path on.
std::optional<Captured> Habits::place_in(const Pattern& pattern, std::string_view folder) {
    for (std::size_t at = 0;;) {
        if (auto place = pattern.match(folder.substr(at))) return place;
        at = folder.find('/', at);
        if (at == folder.npos) return std::nullopt;
        ++at;
    }
}

const std::vector<std::optional<Captured>>& Habits::places_in(std::string_view folder) const {
    if (last_places_.empty() || last_folder_ != folder) {
        last_folder_ = folder;
        last_places_.clear();
        for (const Prepared& one : prepared_)
            last_places_.push_back(one.folder ? place_in(*one.folder, folder) : std::optional<Captured>());
    }
    return last_places_;
}

std::vector<Claim> Habits::claims_of(std::string_view folder, std::string_view name) const {
    std::vector<Claim> claims;
    const auto& places = places_in(folder);
    for (std::size_t n = 0; n < prepared_.size(); ++n) {
        const Prepared& one = prepared_[n];
        const std::optional<Captured>& place = places[n];
        if (one.folder && !place) continue;
        auto captured = one.name.match(name);
        if (!captured) continue;
        if (place) {
            captured->path = place->path;
            if (place->date) captured->date = place->date;
            if (captured->stem.empty()) captured->stem = place->stem;
        }
        claims.push_back({one.habit, std::move(*captured)});
        // What says enough by itself needs no second opinion.
        if (!one.habit->needs_document && one.habit->look == nullptr) break;
    }
    return claims;
}

bool can_be_of(const Habit& habit, std::string_view document, std::string_view copy) {
    if (habit.extensions.empty()) return true;
    if (habit.extensions != "=") return is_listed(habit.extensions, document);
    return document == copy || std::any_of(std::begin(kKin), std::end(kKin), [&](std::string_view kin) {
               return is_listed(kin, document) && is_listed(kin, copy);
           });
}

}  // namespace dredger::lives

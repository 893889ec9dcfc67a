#include "guiding/wanted.h"

#include <algorithm>
#include <fmt/format.h>

#include "catalog/candidate.h"

namespace dredger::guiding {

const std::vector<KindChoice>& kind_choices() {
    static const std::vector<KindChoice> choices = {{Kind::picture, "pictures"},   {Kind::video, "films"},
                                                    {Kind::audio, "sounds"},       {Kind::document, "documents"},
                                                    {Kind::mail, "mail"},          {Kind::archive, "archives"},
                                                    {Kind::database, "databases"}, {Kind::other, "other files"}};
    return choices;
}

std::vector<std::string> Wanted::words() const {
    std::vector<std::string> words;
    if (!kinds.empty()) {
        std::string list;
        for (const KindChoice& choice : kind_choices())
            if (kinds.contains(choice.kind)) list += (list.empty() ? "" : ",") + std::string(word_for(choice.kind));
        words.insert(words.end(), {"--kind", list});
    }
    if (!name.empty()) words.insert(words.end(), {"--name", name});
    if (!changed.empty()) words.insert(words.end(), {"--modified", changed});
    return words;
}

Selection Wanted::selection() const {
    Selection selection = usual_selection();
    selection.kinds = kinds;
    if (!name.empty()) selection.names = {name_glob(name)};
    if (!changed.empty())
        if (const auto times = parse_times(changed)) selection.modified = *times;
    return selection;
}

std::string Wanted::told() const {
    std::vector<std::string> which;
    for (const KindChoice& choice : kind_choices())
        if (kinds.contains(choice.kind)) which.emplace_back(choice.plural);
    std::string text = "files";
    if (!which.empty()) {
        const std::string last = which.back();
        which.pop_back();
        text = which.empty() ? last : fmt::format("{} and {}", fmt::join(which, ", "), last);
    }
    if (!name.empty()) text += fmt::format(" with \"{}\" in their names", name);
    if (!changed.empty()) text += fmt::format(", changed last {}", changed);
    return text;
}

Wanted Wanted::wider() const {
    Wanted other = *this;
    if (!changed.empty())
        other.changed.clear();
    else if (!name.empty())
        other.name.clear();
    else
        other.kinds.clear();
    return other;
}

}  // namespace dredger::guiding

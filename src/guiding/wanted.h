// What somebody has lost, as far as they can say it: as words of a command, and as a selection.
#pragma once

#include <string>
#include <vector>

#include "catalog/selection.h"

namespace dredger::guiding {

struct Wanted {
    std::set<Kind> kinds;  // empty: all
    std::string name;      // a part of a file's name; empty: not known
    std::string changed;   // when it was changed last, as --modified takes it; empty: not known

    bool operator==(const Wanted&) const = default;
    bool is_anything() const { return kinds.empty() && name.empty() && changed.empty(); }
    // "--kind", "picture,video" ...
    std::vector<std::string> words() const;
    Selection selection() const;
    // "pictures and films with “gull” in their names"
    std::string told() const;
    // The same with the least certain of it left out: the time, then the name, then the kinds.
    Wanted wider() const;
};

// The kinds as a technician is asked for them, in this order, each with the words for it.
struct KindChoice {
    Kind kind;
    const char* plural;
};
const std::vector<KindChoice>& kind_choices();

}  // namespace dredger::guiding

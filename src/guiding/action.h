// What can be said where finds are chosen: which of them, or what else to do.
#pragma once

#include <string>
#include <vector>

#include "base/error.h"

namespace dredger::guiding {

struct Action {
    enum class What {
        take,      // these numbers
        take_all,  // all that is wanted and not gone
        more,      // the next ones of the list
        show,      // one of them
        lives,     // earlier states and safety copies
        surface,   // search the whole surface
        ask_anew,  // what was lost
        finish,
    };
    What what = What::finish;
    std::string numbers;  // of take, as --id takes them; of show a single one
};

// What the letters mean, a line each.
const std::vector<std::string>& action_lines();

// From "7,12-40", "all", "m", "s 12" ...
Result<Action> parse_action(const std::string& words);

}  // namespace dredger::guiding

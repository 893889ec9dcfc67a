// Something known of a file that has no place of its own elsewhere.
#pragma once

#include <string>

namespace dredger {

struct Fact {
    std::string name;  // "account", "short name", "camera" ...
    std::string value;
    bool operator==(const Fact&) const = default;
};

}  // namespace dredger

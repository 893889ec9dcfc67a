// The parts without which no program opens an office document: made anew from the parts that stand. Office Open XML
// (ECMA-376, part 2: packages; part 1: their parts) and OpenDocument (OASIS OpenDocument 1.3, part 2: packages).
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace dredger::repairing {

struct PackageChanges {
    std::map<std::string, std::string> parts;  // by name: to be added, or put in place of damaged ones
    std::vector<std::string> remarks;          // what was made anew, and what was guessed
    bool has_main_part = false;
};

// `names`: of all parts that stand, whole or closed. `text_of` tells what such a part holds.
using TextOfPart = std::function<std::string(const std::string& name)>;
PackageChanges complete_office_open(const std::set<std::string>& names, const TextOfPart& text_of);
PackageChanges complete_open_document(const std::set<std::string>& names, const TextOfPart& text_of,
                                      std::string_view format);

}  // namespace dredger::repairing

#include "scanning/narrowing.h"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/text.h"

namespace dredger {
namespace {

using Json = nlohmann::json;

bool read_names_alike(const Json& was, const Json& is) {
    return was.is_object() && is.is_object() && was.value("code_page", 850) == is.value("code_page", 850);
}

bool holds_all(const Json& list, const Json& wanted) {
    return std::all_of(wanted.begin(), wanted.end(),
                       [&](const Json& word) { return std::find(list.begin(), list.end(), word) != list.end(); });
}

}  // namespace

std::string narrowing_of(const ScanRequest& request) {
    Json narrowing = Json::object();
    if (!request.folder.empty()) narrowing["folder"] = request.folder;
    for (const Kind kind : request.kinds) narrowing["kind"].push_back(word_for(kind));
    for (const std::string& extension : request.extensions) narrowing["ext"].push_back(extension);
    if (!request.snapshots) narrowing["snapshots"] = false;
    if (request.code_page != CodePage::cp850) narrowing["code_page"] = 437;
    return narrowing.dump();
}

bool keeps_all_of(const std::string& before, const std::string& wanted) {
    const Json was = Json::parse(before, nullptr, false), is = Json::parse(wanted, nullptr, false);
    if (!read_names_alike(was, is)) return false;
    if (was.contains("snapshots") && !is.contains("snapshots")) return false;
    if (was.contains("folder")) {
        const std::string outer = folded(was.value("folder", "")), inner = folded(is.value("folder", ""));
        if (inner != outer && !inner.starts_with(outer + "/")) return false;
    }
    for (const char* list : {"kind", "ext"})
        if (was.contains(list) && (!is.contains(list) || !holds_all(was[list], is[list]))) return false;
    return true;
}

bool reads_names_alike(const std::string& before, const std::string& wanted) {
    return read_names_alike(Json::parse(before, nullptr, false), Json::parse(wanted, nullptr, false));
}

}  // namespace dredger

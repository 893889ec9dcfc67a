#include "guiding/rescue.h"

#include <algorithm>
#include <ctime>
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

namespace dredger::guiding {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

constexpr const char* kAnswers = "rescue.json";
constexpr std::string_view kFolderBegins = "rescue-";

std::string now(const char* as) {
    const std::time_t seconds = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&seconds, &local);
    return fmt::format(fmt::runtime(as), local);
}

// Letters and digits of the patient's name, as every file system takes them.
std::string plain_name(const std::string& patient) {
    std::string name;
    for (const char c : fs::path(patient).filename().stem().string())
        if (std::isalnum(static_cast<unsigned char>(c)) != 0) name += c;
    return name.empty() ? "drive" : name.substr(0, 40);
}

Json told(const Wanted& wanted) {
    Json kinds = Json::array();
    for (const Kind kind : wanted.kinds) kinds.push_back(std::string(word_for(kind)));
    return {{"kinds", std::move(kinds)}, {"name", wanted.name}, {"changed", wanted.changed}};
}

Wanted wanted_in(const Json& from) {
    Wanted wanted;
    for (const Json& word : from.at("kinds"))
        if (const auto kinds = parse_kinds(word.get<std::string>())) wanted.kinds.insert(kinds->begin(), kinds->end());
    wanted.name = from.at("name").get<std::string>();
    wanted.changed = from.at("changed").get<std::string>();
    if (!wanted.changed.empty() && !parse_times(wanted.changed)) wanted.changed.clear();
    return wanted;
}

}  // namespace

Result<void> Rescue::settle(const fs::path& place) {
    constexpr int kMost = 1000;
    const std::string name = fmt::format("{}{}-{}", kFolderBegins, plain_name(patient), now("{:%Y-%m-%d}"));
    std::error_code failed;
    for (int number = 1; number <= kMost; ++number) {
        const fs::path candidate = place / (number == 1 ? name : fmt::format("{}-{}", name, number));
        if (!fs::create_directories(candidate, failed) && !failed) continue;  // somebody's
        if (failed)
            return fail(ErrorKind::output, "the folder can't be made: " + failed.message(), candidate.string(),
                        "choose another place");
        folder = candidate;
        begun = now("{:%Y-%m-%d %H:%M}");
        return save();
    }
    return fail(ErrorKind::output, "there are too many rescues of this day", place.string(), "choose another place");
}

Result<void> Rescue::save() const {
    const fs::path file = folder / kAnswers, next = file.string() + ".new";
    {
        std::ofstream out(next, std::ios::trunc);
        out << Json{{"patient", patient}, {"source", source},         {"wanted", told(wanted)},
                    {"begun", begun},     {"searched", has_searched}, {"done", is_done}}
                   .dump(2, ' ', false, Json::error_handler_t::replace)
            << "\n";
        out.close();
        if (!out)
            return fail(ErrorKind::output, "the answers can't be kept", next.string(), "is the destination full?");
    }
    std::error_code failed;
    fs::rename(next, file, failed);
    if (failed) return fail(ErrorKind::output, "the answers can't be kept: " + failed.message(), file.string());
    return {};
}

void Rescue::remember(const std::string& command) const {
    if (folder.empty()) return;
    std::ofstream(commands(), std::ios::app) << now("{:%Y-%m-%d %H:%M:%S}") << "  " << command << "\n";
}

std::optional<Rescue> read_rescue(const fs::path& folder) {
    std::ifstream in(folder / kAnswers);
    const Json from = Json::parse(in, nullptr, false);
    if (!from.is_object()) return std::nullopt;
    try {
        Rescue rescue;
        rescue.patient = from.at("patient").get<std::string>();
        rescue.source = from.at("source").get<std::string>();
        rescue.wanted = wanted_in(from.at("wanted"));
        rescue.begun = from.at("begun").get<std::string>();
        rescue.has_searched = from.at("searched").get<bool>();
        rescue.is_done = from.at("done").get<bool>();
        rescue.folder = folder;
        return rescue;
    } catch (const Json::exception&) {
        return std::nullopt;
    }
}

std::vector<Rescue> unfinished_in(const std::vector<fs::path>& places) {
    std::set<fs::path> seen;
    std::vector<Rescue> found;
    for (const fs::path& place : places) {
        std::error_code failed;
        for (const fs::directory_entry& entry : fs::directory_iterator(place, failed)) {
            if (!entry.path().filename().string().starts_with(kFolderBegins)) continue;
            const fs::path real = fs::canonical(entry.path(), failed);
            if (failed || !seen.insert(real).second) continue;
            auto rescue = read_rescue(entry.path());
            if (rescue && !rescue->is_done) found.push_back(std::move(*rescue));
        }
    }
    std::sort(found.begin(), found.end(), [](const Rescue& a, const Rescue& b) {
        return a.begun != b.begun ? a.begun > b.begun : a.folder < b.folder;
    });
    return found;
}

}  // namespace dredger::guiding

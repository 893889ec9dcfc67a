// An image cut into numbered parts: NAME.001 NAME.002 ..., NAME.aa NAME.ab ..., NAME.part1 ...: whatever counts up at
// the end of the name, from the first part on.
#include <fmt/format.h>

#include "media/images/image.h"
#include "media/images/runs.h"

namespace dredger::images {
namespace {

namespace fs = std::filesystem;

// The counter at the end of a name: digits or letters behind a point; digits anywhere.
std::string counter_of(const std::string& name) {
    std::size_t from = name.size();
    while (from > 0 && name[from - 1] >= '0' && name[from - 1] <= '9') --from;
    if (from < name.size()) return name.substr(from);
    while (from > 0 &&
           ((name[from - 1] >= 'a' && name[from - 1] <= 'z') || (name[from - 1] >= 'A' && name[from - 1] <= 'Z')))
        --from;
    const bool behind_point = from > 0 && name[from - 1] == '.';
    return behind_point && name.size() - from >= 2 ? name.substr(from) : "";
}

// Where counting begins: 0, 1, 00, 001, aa, AAA ...
bool is_first(const std::string& counter) {
    const std::string zeros(counter.size(), '0');
    std::string one = zeros;
    one.back() = '1';
    return counter == zeros || counter == one || counter == std::string(counter.size(), 'a') ||
           counter == std::string(counter.size(), 'A');
}

// The next in counting: as wide while it fits, then one digit wider; letters end with "zz".
std::string following(std::string counter) {
    for (std::size_t i = counter.size(); i-- > 0;) {
        char& c = counter[i];
        if (c != '9' && c != 'z' && c != 'Z') {
            ++c;
            return counter;
        }
        c = c == '9' ? '0' : c == 'z' ? 'a' : 'A';
    }
    if (counter.front() != '0') return {};
    counter.insert(counter.begin(), '1');
    return counter;
}

}  // namespace

Result<MediumPtr> open_split(const FilePtr& file, Opening& opening) {
    const std::string name = file->path().filename().string();
    std::string counter = counter_of(name);
    if (counter.empty() || !is_first(counter)) return nullptr;
    const std::string stem = name.substr(0, name.size() - counter.size());
    const fs::path folder = file->path().parent_path();
    std::error_code failed;
    if (!fs::is_regular_file(folder / (stem + following(counter)), failed)) return nullptr;

    std::vector<Run> runs = {{0, file->size(), file, 0}};
    std::vector<std::string> shorter;
    while (true) {
        counter = following(counter);
        if (counter.empty() || !fs::is_regular_file(folder / (stem + counter), failed)) break;
        DREDGER_TRY(const FilePtr part, opening.open_part(*file, stem + counter, "a part of the image"));
        const std::uint64_t start = runs.back().start + runs.back().length;
        if (runs.back().length != file->size()) shorter.push_back(runs.back().on->name());
        runs.push_back({start, part->size(), part, 0});
    }
    if (!shorter.empty())
        opening.note(fmt::format(
            "the parts are not all of one size ({} differs): is one cut short or of another image?", shorter.front()));
    opening.set_form(fmt::format("split image in {} parts", runs.size()));
    return std::make_shared<Runs>(file->name(), std::move(runs));
}

}  // namespace dredger::images

#include "restoring/places.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kLongestPart = 240;  // bytes; leaves room for a number and the temporary name's ending

// Names that Windows keeps for devices, whatever their extension.
bool is_reserved(std::string_view part) {
    const std::string stem = folded(part.substr(0, part.find('.')));
    static const std::set<std::string> kDevices = {"con", "prn", "aux", "nul"};
    const bool numbered =
        stem.size() == 4 && (stem.starts_with("com") || stem.starts_with("lpt")) && stem[3] >= '1' && stem[3] <= '9';
    return kDevices.contains(stem) || numbered;
}

// Cut before `most` bytes, never inside a UTF-8 sequence.
std::string shortened(const std::string& text, std::size_t most) {
    if (text.size() <= most) return text;
    std::size_t end = most;
    while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0U) == 0x80U) --end;
    return text.substr(0, end);
}

}  // namespace

std::string safe_part(std::string_view part) {
    std::string name = printable(part);
    for (char& c : name)
        if (c == '/' || c == '\\' || c == '\0') c = '_';
    if (name.empty() || name == "." || name == "..") return "_";
    if (is_reserved(name)) name = "_" + name;
    if (name.size() > kLongestPart) {
        const std::string extension = fs::path(name).extension().string();
        const bool keeps = extension.size() < 32;
        name = shortened(name, kLongestPart - (keeps ? extension.size() : 0)) + (keeps ? extension : "");
    }
    return name;
}

fs::path safe_path(std::string_view original) {
    fs::path path;
    for (std::size_t from = 0; from < original.size();) {
        const std::size_t slash = std::min(original.find('/', from), original.size());
        if (slash > from) path /= safe_part(original.substr(from, slash - from));
        from = slash + 1;
    }
    return path.empty() ? fs::path("_") : path;
}

fs::path free_name(const fs::path& wanted, const std::set<fs::path>& promised) {
    const auto is_taken = [&](const fs::path& path) {
        std::error_code failed;
        return promised.contains(path) || fs::exists(fs::symlink_status(path, failed));
    };
    if (!is_taken(wanted)) return wanted;
    for (unsigned n = 2;; ++n) {
        fs::path numbered =
            wanted.parent_path() / fmt::format("{} ({}){}", wanted.stem().string(), n, wanted.extension().string());
        if (!is_taken(numbered)) return numbered;
    }
}

}  // namespace dredger

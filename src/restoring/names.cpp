#include "restoring/names.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>
#include <sys/vfs.h>

#include "base/digest.h"
#include "base/text.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kLongestPart = 240;  // bytes; leaves room for a number

// Names that Windows keeps for devices, whatever their extension.
bool is_reserved(std::string_view part) {
    const std::string stem = folded(part.substr(0, part.find('.')));
    static const std::set<std::string> kDevices = {"con", "prn", "aux", "nul"};
    const bool numbered =
        stem.size() == 4 && (stem.starts_with("com") || stem.starts_with("lpt")) && stem[3] >= '1' && stem[3] <= '9';
    return kDevices.contains(stem) || numbered;
}

// How many bytes the UTF-8 character at `at` has; 0 where none stands there.
std::size_t character_at(std::string_view text, std::size_t at) {
    const auto byte = [&](std::size_t i) {
        return at + i < text.size() ? static_cast<unsigned char>(text[at + i]) : 0U;
    };
    const unsigned first = byte(0);
    if (first < 0x80) return 1;
    const std::size_t length = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : 2;
    if (first < 0xC2 || first > 0xF4) return 0;
    for (std::size_t i = 1; i < length; ++i)
        if ((byte(i) & 0xC0U) != 0x80U) return 0;
    // No longer forms than needed, no surrogates, nothing above U+10FFFF.
    if ((first == 0xE0 && byte(1) < 0xA0) || (first == 0xED && byte(1) > 0x9F) || (first == 0xF0 && byte(1) < 0x90) ||
        (first == 0xF4 && byte(1) > 0x8F))
        return 0;
    // U+0080 to U+009F are control characters, too.
    return first == 0xC2 && byte(1) < 0xA0 ? 0 : length;
}

bool is_hexadecimal(char c) { return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'F') || (c >= 'a' && c <= 'f'); }

std::string escaped(std::string_view bytes) {
    std::string text;
    for (const char c : bytes) text += fmt::format("%{:02X}", static_cast<unsigned char>(c));
    return text;
}

// Cut before `most` bytes, never inside a character or an escape.
std::string shortened(const std::string& text, std::size_t most) {
    std::size_t end = most;
    while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0U) == 0x80U) --end;
    if (end >= 1 && text[end - 1] == '%') end -= 1;
    if (end >= 2 && text[end - 2] == '%') end -= 2;
    return text.substr(0, end);
}

}  // namespace

NameRules rules_of(const fs::path& folder) {
    constexpr long kVfat = 0x4d44, kExfat = 0x2011BAB0, kNtfs = 0x5346544e, kNtfs3 = 0x7366746e,
                   kFuseBlock = 0x65735546, kCifs = static_cast<long>(0xFF534D42),
                   kSmb2 = static_cast<long>(0xFE534D42), kHfsPlus = 0x482b;
    struct statfs facts {};
    if (::statfs(folder.c_str(), &facts) != 0) return kUnixNames;
    switch (static_cast<long>(facts.f_type)) {
        case kVfat:
        case kExfat:
        case kNtfs:
        case kNtfs3:
        case kFuseBlock:
        case kCifs:
        case kSmb2: return kWindowsNames;
        case kHfsPlus: return {false, true};
        default: return kUnixNames;
    }
}

std::string mapped_part(std::string_view part, const NameRules& rules) {
    if (part.empty()) return "%";
    std::string name;
    for (std::size_t at = 0; at < part.size();) {
        const std::size_t length = character_at(part, at);
        const char c = part[at];
        const bool looks_escaped =
            c == '%' && at + 2 < part.size() && is_hexadecimal(part[at + 1]) && is_hexadecimal(part[at + 2]);
        const bool is_refused = length == 0 || static_cast<unsigned char>(c) < 0x20 || c == 0x7F || c == '/' ||
                                looks_escaped || part == "%" ||
                                (rules.windows && std::string_view("<>:\"\\|?*").find(c) != std::string_view::npos);
        const std::size_t taken = std::max<std::size_t>(length, 1);
        name += is_refused ? escaped(part.substr(at, taken)) : std::string(part.substr(at, taken));
        at += taken;
    }
    if (name == ".") return "%2E";
    if (name == "..") return "%2E%2E";
    if (rules.windows) {
        if (is_reserved(name)) name = escaped(name.substr(0, 1)) + name.substr(1);
        if (name.back() == '.' || name.back() == ' ')
            name = name.substr(0, name.size() - 1) + escaped(name.substr(name.size() - 1));
    }
    if (name.size() > kLongestPart) {
        std::string extension = fs::path(name).extension().string();
        if (extension.size() > 32) extension.clear();
        const std::string sum = fmt::format("~{:08X}", crc32(std::as_bytes(std::span(part))));
        name = shortened(name, kLongestPart - extension.size() - sum.size()) + sum + extension;
    }
    return name;
}

std::string original_part(std::string_view mapped) {
    if (mapped == "%") return {};
    std::string name;
    for (std::size_t at = 0; at < mapped.size(); ++at) {
        const bool is_escape = mapped[at] == '%' && at + 2 < mapped.size() && is_hexadecimal(mapped[at + 1]) &&
                               is_hexadecimal(mapped[at + 2]);
        name +=
            is_escape ? static_cast<char>(std::stoi(std::string(mapped.substr(at + 1, 2)), nullptr, 16)) : mapped[at];
        if (is_escape) at += 2;
    }
    return name;
}

fs::path mapped_path(std::string_view original, const NameRules& rules) {
    fs::path path;
    for (std::size_t from = 0; from < original.size();) {
        const std::size_t slash = std::min(original.find('/', from), original.size());
        if (slash > from) path /= mapped_part(original.substr(from, slash - from), rules);
        from = slash + 1;
    }
    return path.empty() ? fs::path(mapped_part("", rules)) : path;
}

std::string path_key(const fs::path& path, const NameRules& rules) {
    return rules.ignores_case ? folded(path.generic_string()) : path.generic_string();
}

}  // namespace dredger

#include "filesystems/fat/names.h"

#include <algorithm>
#include <span>

namespace dredger::fat {
namespace {

// Allowed in short names besides letters, digits and what lies above 7F (specification, "Short Directory Entries").
constexpr std::string_view kSpecial = "$%'-_@~`!(){}^#&";
constexpr std::string_view kForbiddenInLong = "\\/:*?\"<>|";

bool is_short_character(std::uint8_t c) {
    return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c >= 0x80 ||
           kSpecial.find(static_cast<char>(c)) != kSpecial.npos;
}

// A part of a name: characters, then only spaces.
bool is_padded(std::span<const std::uint8_t> part) {
    const auto space = std::find(part.begin(), part.end(), ' ');
    return std::all_of(part.begin(), space, [](std::uint8_t c) { return is_short_character(c) || c == ' '; }) &&
           std::all_of(space, part.end(), [](std::uint8_t c) { return c == ' '; });
}

std::string text_of(std::span<const std::uint8_t> part, bool lower, CodePage page) {
    while (!part.empty() && part.back() == ' ') part = part.first(part.size() - 1);
    const std::string text = code_page_to_utf8(std::as_bytes(part), page);
    return lower ? folded(text) : text;
}

// The characters that drivers put into a short name for those of a long one: spaces and points left out, letters in
// upper case; 0 stands for a character that short names can't have, for which drivers differ.
std::string shortened(std::u16string_view text) {
    std::string out;
    for (const char16_t c : text) {
        if (c == u' ' || c == u'.') continue;
        if (c >= u'a' && c <= u'z')
            out += static_cast<char>(c - u'a' + 'A');
        else
            out += c < 0x80 && is_short_character(static_cast<std::uint8_t>(c)) ? static_cast<char>(c) : '\0';
    }
    return out;
}

bool agree(char wanted, std::uint8_t there) { return wanted == '\0' || static_cast<std::uint8_t>(wanted) == there; }

bool is_digit(std::uint8_t c) { return c >= '0' && c <= '9'; }

}  // namespace

std::uint8_t checksum(const ShortName& name) {
    unsigned sum = 0;
    for (const std::uint8_t c : name) sum = (((sum & 1U) << 7U) + (sum >> 1U) + c) & 0xFFU;
    return static_cast<std::uint8_t>(sum);
}

std::uint8_t first_byte_for(const ShortName& name, std::uint8_t wanted) {
    // Each step of the checksum can be undone; before the first one it is zero.
    unsigned sum = wanted;
    for (std::size_t i = name.size() - 1; i > 0; --i) {
        const unsigned rotated = (sum - name[i]) & 0xFFU;
        sum = ((rotated << 1U) | (rotated >> 7U)) & 0xFFU;
    }
    return static_cast<std::uint8_t>(sum);
}

bool can_begin(std::uint8_t first) { return is_short_character(first) || first == kEntryKanji; }

bool is_short_name(const ShortName& name, bool with_first) {
    const std::span<const std::uint8_t> all(name);
    return (!with_first || can_begin(name[0])) && is_padded(all.subspan(1, 7)) && is_padded(all.subspan(8, 3));
}

std::string shown(const ShortName& name, std::uint8_t nt_flags, CodePage page) {
    ShortName real = name;
    if (real[0] == kEntryKanji) real[0] = 0xE5;
    const std::span<const std::uint8_t> all(real);
    std::string text = text_of(all.first(8), (nt_flags & kLowerCaseBase) != 0, page);
    const std::string extension = text_of(all.subspan(8), (nt_flags & kLowerCaseExtension) != 0, page);
    if (!extension.empty()) text += "." + extension;
    return text;
}

bool fits(std::u16string_view long_name, const ShortName& short_name) {
    while (!long_name.empty() && long_name.front() == u'.') long_name.remove_prefix(1);
    const auto point = long_name.rfind(u'.');
    const bool has_extension = point != long_name.npos && point + 1 < long_name.size();
    const std::string base = shortened(long_name.substr(0, has_extension ? point : long_name.npos));
    const std::string extension = has_extension ? shortened(long_name.substr(point + 1)) : "";
    for (std::size_t i = 0; i < 3; ++i) {
        const std::uint8_t there = short_name[8 + i];
        // Where drivers may leave characters out, the places no longer compare.
        if (extension.find('\0') != extension.npos) break;
        if (i < extension.size() ? !agree(extension[i], there) : there != ' ') return false;
    }
    // Behind the first two, a number or a hash may stand for the name's own characters.
    for (std::size_t i = 0; i < 2 && i < base.size(); ++i) {
        if (base[i] == '\0') break;
        if (i > 0 && short_name[i] == '~') break;
        if (!agree(base[i], short_name[i])) return false;
    }
    return true;
}

bool is_long_name(std::u16string_view name) {
    return !name.empty() && name.size() <= kLongest && std::none_of(name.begin(), name.end(), [](char16_t c) {
        return c < 0x20 || (c < 0x80 && kForbiddenInLong.find(static_cast<char>(c)) != kForbiddenInLong.npos);
    });
}

std::optional<std::uint8_t> first_byte_from_neighbours(const ShortName& name,
                                                       const std::vector<ShortName>& neighbours) {
    // Runs that count on (NEST0001, NEST0002) have digits; a name without any must be met again as it is.
    std::optional<std::uint8_t> first;
    for (const ShortName& other : neighbours) {
        bool alike = true;
        for (std::size_t i = 1; i < name.size() && alike; ++i)
            alike = name[i] == other[i] || (is_digit(name[i]) && is_digit(other[i]));
        if (!alike) continue;
        if (first && *first != other[0]) return std::nullopt;
        first = other[0];
    }
    if (first && is_digit(*first) && is_digit(name[1])) return std::nullopt;  // the lost digit could be any
    return first;
}

std::optional<std::uint8_t> first_byte_of_device_name(const ShortName& name, bool is_folder) {
    // '#' stands for a digit, '?' for any letter or digit.
    static constexpr std::string_view kFiles[] = {
        "IMG_####", "DSC_####", "DSC0####", "DSCN####", "DSCF####", "DSCI####", "CIMG####", "PICT####",
        "P###0###", "P10#####", "SAM_####", "SANY####", "IMGP####", "HPIM####", "KIF_####", "MVI_####",
        "MOV_####", "MOV0####", "VID_####", "CLIP####", "GOPR####", "GH0#####", "GX0#####", "DJI_####",
        "SCAN####", "REC_####", "VOC_####", "STE-####", "DVC#####"};
    static constexpr std::string_view kFolders[] = {"DCIM    ", "MISC    ", "PRIVATE ",
                                                    "AVCHD   ", "1#######", "1##?????"};
    const auto goes_with = [&](std::string_view pattern) {
        for (std::size_t i = 1; i < 8; ++i) {
            const std::uint8_t c = name[i];
            const bool letter = (c >= 'A' && c <= 'Z') || c == '_';
            if (pattern[i] == '#'   ? !is_digit(c)
                : pattern[i] == '?' ? !letter && !is_digit(c)
                                    : c != static_cast<std::uint8_t>(pattern[i]))
                return false;
        }
        return true;
    };
    std::optional<std::uint8_t> first;
    const std::span<const std::string_view> patterns =
        is_folder ? std::span<const std::string_view>(kFolders) : std::span<const std::string_view>(kFiles);
    for (const std::string_view pattern : patterns) {
        if (!goes_with(pattern)) continue;
        if (first && *first != static_cast<std::uint8_t>(pattern[0])) return std::nullopt;
        first = static_cast<std::uint8_t>(pattern[0]);
    }
    return first;
}

}  // namespace dredger::fat

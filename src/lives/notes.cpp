#include "lives/notes.h"

#include <algorithm>

#include "base/text.h"

namespace dredger::lives {
namespace {

// Whether it can be somebody's name: characters that can be shown.
bool is_readable(std::string_view utf8) { return !utf8.empty() && printable(utf8) == utf8; }

}  // namespace

std::string path_of_uri(std::string_view uri) {
    constexpr std::string_view kScheme = "file://";
    if (!uri.starts_with(kScheme)) return {};
    uri.remove_prefix(kScheme.size());
    uri.remove_prefix(std::min(uri.find('/'), uri.size()));  // a machine's name
    while (uri.starts_with('/')) uri.remove_prefix(1);
    std::string path = percent_decoded(uri);
    // A drive's letter is the volume that the path is on.
    if (path.size() > 2 && path[1] == ':' && path[2] == '/') path.erase(0, 3);
    return path;
}

ToldByContent owner_of_office_note(Reader& content) {
    constexpr std::uint64_t kWideCount = 54, kWide = 56;  // bytes
    constexpr std::size_t kMostBytes = 53, kMostCharacters = 54;
    ToldByContent told;
    // Text programs put it off to write it: an empty one is one, too.
    if (content.size() == 0 || content.is_zeros(0, content.size())) return told;
    const std::size_t length = content.u8(0), wide = content.u16le(kWideCount);
    told.is_one = length <= kMostBytes && content.size() < 1024;
    if (!told.is_one) return told;
    std::string name;
    if (wide > 0 && wide <= kMostCharacters) {
        const std::string bytes = content.text(kWide, wide * 2);
        name = utf16le_to_utf8(std::as_bytes(std::span(bytes)));
    }
    if (!is_readable(name)) {
        const std::string bytes = content.text(1, length);
        name = code_page_to_utf8(std::as_bytes(std::span(bytes)), CodePage::windows1252);
    }
    if (is_readable(name)) told.facts.push_back("opened by " + name);
    return told;
}

ToldByContent owner_of_lock_file(Reader& content) {
    constexpr std::size_t kMost = 4096;
    ToldByContent told;
    const std::string text = content.text(0, std::min<std::uint64_t>(content.size(), kMost));
    std::vector<std::string> fields;
    std::string field;
    for (const char c : text) {
        if (c == ',' || c == ';')
            fields.push_back(std::exchange(field, {}));
        else
            field += c;
        if (c == ';') break;
    }
    told.is_one = text.empty() || fields.size() >= 4;
    if (fields.size() < 4) return told;
    const std::string who = !fields[0].empty() ? fields[0] : fields[1];
    std::string fact = is_readable(who) ? "opened by " + who : "opened";
    if (is_readable(fields[2])) fact += " on " + fields[2];
    if (is_readable(fields[3])) fact += ", " + fields[3];
    told.facts.push_back(std::move(fact));
    return told;
}

ToldByContent told_by_thumbnail(Reader& content) {
    constexpr std::string_view kKey("Thumb::URI\0", 11);
    constexpr std::uint64_t kHead = 64 << 10;  // text chunks lie before the picture's data, or right behind it
    ToldByContent told;
    const auto at = content.find(kKey, 0, std::min(content.size(), kHead));
    if (!at || *at < 8) return told;
    const std::uint64_t length = content.u32be(*at - 8);
    if (length > kKey.size() && length < kHead)
        told.path = path_of_uri(content.text(*at + kKey.size(), static_cast<std::size_t>(length - kKey.size())));
    return told;
}

ToldByContent told_by_first_line(Reader& content) {
    constexpr std::size_t kMost = 8192;
    const std::string text = content.text(0, std::min<std::uint64_t>(content.size(), kMost));
    const std::string line = text.substr(0, text.find('\n'));
    ToldByContent told;
    told.path = path_of_uri(line.substr(0, line.find(" {")));
    told.is_one = !told.path.empty();
    return told;
}

}  // namespace dredger::lives

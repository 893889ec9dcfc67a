#include "cli/words.h"

#include <algorithm>
#include <fmt/format.h>
#include <unicode/uchar.h>
#include <unicode/unistr.h>
#include <vector>

#include "cli/terminal.h"

namespace dredger::cli {
namespace {

std::size_t columns_of(UChar32 c) {
    const auto type = u_charType(c);
    if (type == U_NON_SPACING_MARK || type == U_ENCLOSING_MARK || type == U_FORMAT_CHAR) return 0;
    const int width = u_getIntPropertyValue(c, UCHAR_EAST_ASIAN_WIDTH);
    return width == U_EA_WIDE || width == U_EA_FULLWIDTH ? 2 : 1;
}

icu::UnicodeString decoded(std::string_view text) {
    return icu::UnicodeString::fromUTF8({text.data(), static_cast<int32_t>(text.size())});
}

Style style_of(Band band) {
    switch (band) {
        case Band::sound: return Style::good;
        case Band::patchy: return Style::fair;
        case Band::faint: return Style::poor;
        case Band::gone: break;
    }
    return Style::bad;
}

}  // namespace

std::string time_text(const std::optional<FileTime>& time) { return time ? shown_time(*time) : "-"; }

std::string counted(std::uint64_t count, std::string_view one, std::string_view many) {
    if (count == 1) return fmt::format("1 {}", one);
    return many.empty() ? fmt::format("{} {}s", count_text(count), one) : fmt::format("{} {}", count_text(count), many);
}

std::string bin_text(const BinContents& contents) {
    std::string text = counted(contents.files, "file");
    if (contents.folders > 0) text += " and " + counted(contents.folders, "folder");
    text += fmt::format(" ({})", size_text(contents.bytes));
    if (!contents.first) return text;
    const std::string first = time_text(contents.first).substr(0, 10);
    const std::string last = time_text(contents.last).substr(0, 10);
    return text + ", thrown away " + (first == last ? first : fmt::format("{} to {}", first, last));
}

std::string meter(const Prospect& prospect) {
    constexpr int kCells = 5;
    std::string bar;
    // Only what is believed whole fills the bar; only what is gone empties it.
    int filled = (prospect.value * kCells + 50) / 100;
    if (prospect.band != Band::sound) filled = std::min(filled, kCells - 1);
    if (prospect.band != Band::gone) filled = std::max(filled, 1);
    for (int i = 0; i < kCells; ++i) bar += i < filled ? "━" : "╌";
    return styled(fmt::format("{} {:3} {:<6}", bar, prospect.value, word_for(prospect.band)), style_of(prospect.band));
}

std::size_t display_width(std::string_view text) {
    const auto units = decoded(text);
    std::size_t width = 0;
    bool in_escape = false;
    for (int32_t at = 0; at < units.length(); at = units.moveIndex32(at, 1)) {
        const UChar32 c = units.char32At(at);
        if (c == 0x1B) in_escape = true;
        if (!in_escape) width += columns_of(c);
        if (in_escape && c == 'm') in_escape = false;
    }
    return width;
}

std::string wrapped(const std::string& text, std::size_t width, std::size_t indent) {
    std::string out;
    std::size_t column = 0;
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = std::min(text.find(' ', from), text.size());
        const std::string word = text.substr(from, end - from);
        if (column > indent && column + 1 + display_width(word) > width) {
            out += "\n" + std::string(indent, ' ');
            column = indent;
        } else if (from > 0) {
            out += ' ';
            ++column;
        }
        out += word;
        column += display_width(word);
        from = end + 1;
    }
    return out;
}

std::string wrapped_behind(const std::string& text, std::size_t width, std::size_t indent) {
    constexpr std::size_t kLeast = 24;  // columns that there must be for it
    return wrapped(std::string(indent, '.') + text, std::max(width, indent + kLeast), indent).substr(indent);
}

std::string wrapped_lines(const std::string& text, std::size_t width) {
    std::string out;
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        const std::string line = text.substr(from, end - from);
        const std::size_t indent = std::min(line.find_first_not_of(' '), line.size());
        out += display_width(line) <= width ? line : wrapped(line, width, indent + 2);
        if (end < text.size()) out += '\n';
        from = end + 1;
    }
    return out;
}

std::string pasteable(const std::string& command, std::size_t width) {
    constexpr std::size_t kIndent = 4, kBackslash = 2;
    std::string out, line;
    bool in_quotes = false;
    for (std::size_t from = 0; from < command.size();) {
        std::size_t end = from;
        for (; end < command.size() && (in_quotes || command[end] != ' '); ++end)
            if (command[end] == '\'') in_quotes = !in_quotes;
        const std::string word = command.substr(from, end - from);
        const bool is_last = end >= command.size();
        if (!line.empty() && display_width(line) + 1 + display_width(word) + (is_last ? 0 : kBackslash) > width) {
            out += line + " \\\n";
            line = std::string(kIndent, ' ') + word;
        } else {
            line += (from == 0 ? "" : " ") + word;
        }
        from = end + 1;
    }
    return out + line;
}

std::string shortened(const std::string& text, std::size_t most) {
    if (most < 5 || display_width(text) <= most) return text;
    std::vector<UChar32> characters;
    const auto units = decoded(text);
    for (int32_t at = 0; at < units.length(); at = units.moveIndex32(at, 1)) characters.push_back(units.char32At(at));
    // A third of the room for the beginning: the end, with the file's name, tells more.
    const std::size_t for_head = (most - 1) / 3;
    std::size_t head = 0;
    for (std::size_t width = 0; width + columns_of(characters[head]) <= for_head; ++head)
        width += columns_of(characters[head]);
    std::size_t tail = characters.size();
    for (std::size_t width = 0; tail > head && width + columns_of(characters[tail - 1]) <= most - 1 - for_head; --tail)
        width += columns_of(characters[tail - 1]);
    icu::UnicodeString out;
    for (std::size_t i = 0; i < head; ++i) out.append(characters[i]);
    out.append(UChar32{0x2026});
    for (std::size_t i = tail; i < characters.size(); ++i) out.append(characters[i]);
    std::string utf8;
    out.toUTF8String(utf8);
    return utf8;
}

std::string shortened_path(const std::string& path, std::size_t most) {
    constexpr std::size_t kLeastFolder = 6;
    if (display_width(path) <= most) return path;
    const auto slash =
        path.find_last_not_of('/') == path.npos ? path.npos : path.rfind('/', path.find_last_not_of('/'));
    if (slash == path.npos) return shortened(path, most);
    const std::string name = path.substr(slash + 1);
    const std::size_t taken = display_width(name) + 1;
    if (taken + kLeastFolder <= most) return shortened(path.substr(0, slash), most - taken) + "/" + name;
    return taken + 1 <= most ? "…/" + name : shortened(name, most);
}

}  // namespace dredger::cli

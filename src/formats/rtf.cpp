// Rich Text Format (Microsoft, Rich Text Format Specification 1.9.1).
#include <algorithm>
#include <charconv>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/characters.h"
#include "formats/dates.h"

namespace dredger::formats {

using namespace std::string_view_literals;

namespace {

constexpr std::uint64_t kSector = 512;

Measured measure_rtf(Reader& content) {
    std::uint64_t at = 0;
    std::uint64_t depth = 0;
    std::uint64_t controls = 0;
    const auto stopped = [&](std::uint64_t good) {
        return good < kSector || controls * 100 < good ? nonsense() : broken(good, "its end is missing");
    };
    while (content.holds(at, 1)) {
        const auto here = content.some(at);
        if (here.empty()) break;
        std::uint64_t skip = 0;
        for (std::size_t i = 0; i < here.size(); ++i, ++at) {
            const auto c = std::to_integer<unsigned>(here[i]);
            if (skip > 0) {
                --skip;
                continue;
            }
            if (c == '\\') {
                skip = 1;
                ++controls;
            }
            if (c == '{') ++depth;
            if (c == '}' && --depth == 0) {
                std::uint64_t end = behind_line_end(content, at + 1);
                if (content.has(end, "\0"sv) && content.has(end - 1, "\n") && !content.has(end + 1, "\0"sv)) ++end;
                return whole(end, Proof::chain);
            }
            if (is_control(here[i])) return stopped(at);
        }
        if (skip > 0) ++at;
    }
    return stopped(std::min(at, content.size()));
}

// The number behind a control word within [from, to), or -1.
int rtf_number(const std::string& text, std::string_view word, std::size_t from, std::size_t to) {
    const std::size_t at = text.find(word, from);
    int number = -1;
    if (at < to) (void)std::from_chars(text.data() + at + word.size(), text.data() + to, number);
    return number;
}

// Text of a group, with its escapes: \'e9 in the code page; \u8211? in UTF-16, with a character for older readers
// behind.
std::string rtf_text(std::string_view text) {
    std::string plain;
    std::u16string wide;  // that is not in `plain` yet: surrogates come in pairs
    const auto add = [&](int byte) {
        plain += utf16_to_utf8(std::exchange(wide, {}));
        const auto one = static_cast<std::byte>(byte);
        plain += code_page_to_utf8(std::span(&one, 1), CodePage::windows1252);
    };
    const auto hexadecimal = [&](std::size_t at) {
        int value = '?';
        if (at + 2 <= text.size()) (void)std::from_chars(text.data() + at, text.data() + at + 2, value, 16);
        return value;
    };
    for (std::size_t at = 0; at < text.size() && text[at] != '}';) {
        if (text[at] != '\\' || at + 1 >= text.size()) {
            add(text[at++]);
        } else if (text[at + 1] == '\'') {
            add(hexadecimal(at + 2));
            at += 4;
        } else if (text[at + 1] == 'u') {
            int unit = '?';
            at = static_cast<std::size_t>(std::from_chars(text.data() + at + 2, text.data() + text.size(), unit).ptr -
                                          text.data());
            wide += static_cast<char16_t>(unit);
            if (at < text.size() && text[at] == ' ') ++at;
            at += text.substr(std::min(at, text.size())).starts_with("\\'") ? 4 : 1;
        } else {
            add(text[at + 1]);
            at += 2;
        }
    }
    return plain + utf16_to_utf8(wide);
}

// The group of information (RTF 1.9.1, "Information Group").
Description describe_rtf(Reader& content, std::uint64_t length) {
    constexpr std::size_t kFarthest = 256 << 10;  // bytes
    Description said;
    const std::string head = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(length, kFarthest)));
    const std::size_t info = head.find("{\\info");
    if (info == std::string::npos) return said;
    if (const std::size_t title = head.find("{\\title ", info); title != std::string::npos)
        said.title = printable(rtf_text(std::string_view(head).substr(title + 8)));
    for (const std::string_view group : {"{\\revtim", "{\\creatim"}) {
        const std::size_t from = head.find(group, info), to = head.find('}', std::min(from, head.size()));
        if (from == std::string::npos || to == std::string::npos || said.date) continue;
        const auto number = [&](std::string_view word) { return std::max(0, rtf_number(head, word, from, to)); };
        said.date = xml_date(fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:00", number("\\yr"), number("\\mo"),
                                         number("\\dy"), number("\\hr"), number("\\min")));
    }
    return said;
}

}  // namespace

std::vector<Format> rtf_formats() {
    return {
        {.name = "rtf",
         .kind = Kind::document,
         .extensions = {"rtf"},
         .signatures = {{{0, "{\\rtf"sv}}},
         .measure = measure_rtf,
         .describe = describe_rtf,
         .ending = "its closing brace",
         .checked = "the nesting of braces"},
    };
}

}  // namespace dredger::formats

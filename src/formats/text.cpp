// Plain text, of which nothing but its characters tells the start and the end; and the family of all that is made of
// characters.
#include "base/text.h"

#include <algorithm>
#include <array>

#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

struct Characters {
    bool utf16 = false;
    bool big = false;
    std::uint64_t end = 0;
    std::uint64_t letters = 0, digits = 0, spaces = 0, lines = 0;
    std::uint64_t foreign = 0;  // bytes that UTF-8 does not have
};

Characters read_characters(Reader& content) {
    Characters text;
    text.utf16 = content.has(0, "\xFF\xFE") || content.has(0, "\xFE\xFF");
    text.big = content.has(0, "\xFE\xFF");
    if (text.utf16) {
        std::uint64_t at = 2;
        for (; content.holds(at, 2); at += 2) {
            const unsigned c = text.big ? content.u16be(at) : content.u16le(at);
            if ((c < 0x20 && c != '\t' && c != '\r' && c != '\n') || c >= 0xFFFE || (c >= 0xE000 && c < 0xF900)) break;
            text.lines += c == '\n' ? 1 : 0;
            text.letters += c < 0x3000 ? 1 : 0;
        }
        text.end = at;
        return text;
    }
    text.end = end_of_characters(content, 0);
    unsigned more = 0;
    for (std::uint64_t at = 0; at < text.end;) {
        const auto here = content.some(at);
        if (here.empty()) break;
        for (const std::byte b : here) {
            if (at++ >= text.end) break;
            const auto c = std::to_integer<unsigned>(b);
            if (more > 0 && (c & 0xC0U) == 0x80) {
                --more;
                continue;
            }
            if (more > 0 || (c >= 0x80 && c < 0xC2) || c > 0xF4) ++text.foreign;
            more = c >= 0xF0 ? 3 : c >= 0xE0 ? 2 : c >= 0xC2 ? 1 : 0;
            text.lines += c == '\n' ? 1 : 0;
            text.letters += is_letter(c) || c == ' ' || c >= 0x80 ? 1 : 0;
            text.digits += c >= '0' && c <= '9' ? 1 : 0;
            text.spaces += is_space(c) ? 1 : 0;
        }
    }
    return text;
}

// A remark of a program or of a file of settings.
bool begins_a_remark(char c) { return std::string_view("/#%;-*").find(c) != std::string_view::npos; }

unsigned bid_text(ByteView head) {
    if (head.has(0, "\xFF\xFE") || head.has(0, "\xFE\xFF")) {
        const std::size_t zero = head.has(0, "\xFF\xFE") ? 3 : 2;
        unsigned plain = 0;
        for (std::size_t i = 0; i < 8 && zero + 2 * i < head.size(); ++i)
            plain += head.bytes()[zero + 2 * i] == std::byte{0} ? 1 : 0;
        return plain >= 4 ? 20 : 0;
    }
    const auto start = head.bytes().first(std::min<std::size_t>(head.size(), 64));
    const auto line = head.bytes().first(std::min<std::size_t>(head.size(), 160));
    // What fills room has no words, and no columns. Programs begin with a line of one mark.
    const bool is_marked = !start.empty() && begins_a_remark(std::to_integer<char>(start.front()));
    const auto& divided = is_marked ? line : start;
    const bool is_divided = std::any_of(divided.begin(), divided.end(), [](std::byte b) {
        const auto c = std::to_integer<unsigned>(b);
        return is_space(c) || c == ',' || c == ';';
    });
    return start.size() >= 16 && is_divided && std::none_of(start.begin(), start.end(), is_control) ? 1 : 0;
}

// A table: lines with the same number of the same separator.
bool is_table(Reader& content, std::uint64_t end) {
    const std::string text = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(end, 16384)));
    for (const char separator : {';', ',', '\t'}) {
        std::size_t columns = 0;
        std::size_t rows = 0;
        std::size_t alike = 0;
        for (std::size_t at = 0; at < text.size();) {
            const std::size_t line_end = text.find('\n', at);
            if (line_end == std::string::npos) break;
            const auto count =
                static_cast<std::size_t>(std::count(text.begin() + static_cast<std::ptrdiff_t>(at),
                                                    text.begin() + static_cast<std::ptrdiff_t>(line_end), separator));
            if (rows++ == 0) columns = count;
            alike += count == columns ? 1 : 0;
            at = line_end + 1;
        }
        if (columns >= 1 && rows >= 3 && alike * 10 >= rows * 9) return true;
    }
    return false;
}

// Programs and settings begin with small letters, too: with a word of theirs, or one that something is said of.
bool begins_a_statement(const std::string& start) {
    constexpr std::string_view kWords[] = {
        "abstract", "begin",   "class",    "const",    "def",       "define",  "enum",      "export",  "extern",
        "fn",       "from",    "function", "global",   "import",    "include", "interface", "let",     "library",
        "local",    "module",  "mtllib",   "newmtl",   "namespace", "object",  "option",    "package", "private",
        "program",  "project", "public",   "require",  "set",       "static",  "struct",    "table",   "template",
        "type",     "typedef", "unit",     "unsigned", "use",       "using",   "var",       "void",    "with"};
    std::size_t at = start.find_first_not_of(" \t\r\n");
    if (at == std::string::npos) return false;
    if (at > 0 && is_letter(static_cast<unsigned char>(start[at]))) return true;
    const std::size_t from = at;
    while (at < start.size() && (is_letter(static_cast<unsigned char>(start[at])) ||
                                 std::isdigit(static_cast<unsigned char>(start[at])) != 0 || start[at] == '_' ||
                                 start[at] == '-' || start[at] == '.'))
        ++at;
    if (at == from) return false;
    const std::string word = start.substr(from, at - from);
    if (std::find(std::begin(kWords), std::end(kWords), word) != std::end(kWords)) return true;
    at = start.find_first_not_of(" \t", at);
    return at != std::string::npos && (start[at] == '=' || start[at] == ':' || start[at] == '(' || start[at] == '{');
}

// What goes on from elsewhere shows at its first character, or at a first line that is shorter than the others.
bool begins_like_a_file(const std::string& start, bool table) {
    if (start.empty()) return false;
    if (table) return true;
    const auto first = static_cast<unsigned char>(start[0]);
    const bool is_mark = std::string_view("#<{[\"'*-=/(%\\!@;$|&~^_`+.").find(start[0]) != std::string_view::npos;
    const bool is_start = first >= 0xC2 || std::isupper(first) != 0 || std::isdigit(first) != 0 || is_mark;
    if (!is_start && !begins_a_statement(start)) return false;
    std::vector<std::size_t> lengths;
    for (std::size_t at = 0; lengths.size() < 12;) {
        const std::size_t end = start.find('\n', at);
        if (end == std::string::npos) break;
        lengths.push_back(end - at);
        at = end + 1;
    }
    if (lengths.size() < 5) return true;
    const std::size_t first_length = lengths.front();
    std::sort(lengths.begin() + 1, lengths.end());
    const bool alike = lengths[1] * 10 >= lengths.back() * 7;
    return !alike || first_length >= lengths[1];
}

// Tables of a program are digits and marks, in lines, below a remark.
bool is_program(Reader& content, const Characters& text) {
    constexpr std::uint64_t kLongestLine = 160;
    return !text.utf16 && text.foreign == 0 && begins_a_remark(static_cast<char>(content.u8(0))) &&
           text.lines * kLongestLine > text.end && text.digits * 5 >= text.end;
}

Measured measure_text(Reader& content) {
    constexpr std::uint64_t kLeast = 64, kLong = 512;
    constexpr unsigned kEndOfText = 0x1A;  // of earlier systems
    Characters text = read_characters(content);
    if (!text.utf16 && content.holds(text.end, 1) && content.u8(text.end) == kEndOfText) ++text.end;
    if (text.end < kLeast || !ends_like_a_file(content, text.end)) return nonsense();
    const bool table = !text.utf16 && is_table(content, text.end);
    if (!text.utf16 && !begins_like_a_file(content.text(content.has(0, "\xEF\xBB\xBF") ? 3 : 0, 4096), table))
        return nonsense();
    const bool words = text.letters * (text.utf16 ? 10 : 5) >= text.end * 2 ||
                       (text.letters * 10 >= text.end && (text.letters + text.digits) * 2 >= text.end) ||
                       is_program(content, text);
    if (!table && !words) return nonsense();
    // Characters of eight bits are told from packed bytes, which have some that no text has, and from what fills room.
    constexpr std::uint64_t kMostBetweenSpaces = 40;
    const bool is_foreign = text.foreign * 20 > text.end;
    if (is_foreign && (text.end < kLong || text.spaces * kMostBetweenSpaces < text.end)) return nonsense();
    if (text.end > kLong && text.lines == 0) return nonsense();
    return open_ended(text.end, Proof::length, table ? "csv" : "txt");
}

std::vector<Format> text_formats() {
    return {
        {.name = "txt",
         .kind = Kind::document,
         .extensions = {"txt", "log", "md", "tex", "ini", "cfg", "conf", "yaml", "yml", "py", "sh", "c", "h", "cpp"},
         .is_text = true,
         .bid = bid_text,
         .measure = measure_text,
         .ending = "where text ends and zeros follow",
         .checked = "that it is text"},
        {.name = "csv", .kind = Kind::document, .extensions = {"csv", "tsv"}, .is_text = true, .told_by = "txt"},
    };
}

}  // namespace

const std::vector<Format>& text() {
    static const std::vector<Format> family = [] {
        std::vector<Format> all;
        for (const auto& some :
             {markup_formats(), rtf_formats(), card_formats(), mail_formats(), json_formats(), text_formats()})
            all.insert(all.end(), some.begin(), some.end());
        return all;
    }();
    return family;
}

}  // namespace dredger::formats

// Files of characters: mark-up (HTML, XML, SVG), RTF, calendars and cards (RFC 5545, RFC 6350), mail (RFC 5322, RFC
// 4155), and plain text, of which nothing but its characters tells the start and the end.
#include "base/text.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <vector>

#include "formats/families.h"
#include "formats/mail_header.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kMostTextFile = std::uint64_t{1} << 32;  // bytes; an MBOX can be long

bool is_control(std::byte b) {
    const auto c = std::to_integer<unsigned>(b);
    return c < 0x20 ? c != '\t' && c != '\r' && c != '\n' && c != '\f' && c != 0x1B : c == 0x7F;
}

// Where the first byte stands that no text has.
std::uint64_t end_of_characters(Reader& content, std::uint64_t at) {
    const std::uint64_t limit = std::min(content.size(), kMostTextFile);
    while (at < limit) {
        const auto here = content.some(at);
        if (here.empty()) break;
        const auto found = std::find_if(here.begin(), here.end(), is_control);
        at += static_cast<std::uint64_t>(found - here.begin());
        if (found != here.end()) break;
    }
    return std::min(at, limit);
}

// Behind one line end, where there is one.
std::uint64_t behind_line_end(Reader& content, std::uint64_t at) {
    if (content.u8(at) == '\r') ++at;
    return content.u8(at) == '\n' ? at + 1 : at;
}

bool is_space(unsigned c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; }

// Without the locale's rules, which a call for every byte would ask for.
unsigned folded_letter(unsigned c) { return c >= 'A' && c <= 'Z' ? c | 0x20U : c; }
bool is_letter(unsigned c) { return folded_letter(c) >= 'a' && folded_letter(c) <= 'z'; }

bool begins_with(ByteView head, std::string_view word) {  // letter case ignored; a byte order mark and spaces before it
    std::size_t at = head.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    while (at < head.size() && is_space(std::to_integer<unsigned>(head.bytes()[at]))) ++at;
    if (head.size() - at < word.size()) return false;
    for (std::size_t i = 0; i < word.size(); ++i)
        if (folded_letter(std::to_integer<unsigned>(head.bytes()[at + i])) != static_cast<unsigned char>(word[i]))
            return false;
    return true;
}

// --- mark-up ---------------------------------------------------------------------------------------------------------

// Walks the tags up to the end of the outermost element.
Measured measure_xml(Reader& content) {
    std::uint64_t at = content.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    const std::uint64_t limit = end_of_characters(content, 0);
    std::uint64_t depth = 0;
    std::uint64_t elements = 0;
    std::string root;
    while (const auto open = content.find("<", at, limit)) {
        at = *open + 1;
        const unsigned first = content.u8(at);
        if (first == '?') {
            const auto end = content.find("?>", at, limit);
            if (!end) break;
            at = *end + 2;
            continue;
        }
        if (first == '!') {
            const std::string_view until = content.has(at, "!--") ? "-->" : content.has(at, "![CDATA[") ? "]]>" : ">";
            auto end = content.find(until, at, limit);
            if (until == ">" && end && content.find("[", at, *end)) end = content.find("]>", at, limit);
            if (!end) break;
            at = *end + (until == ">" && !content.has(*end, ">") ? 2 : until.size());
            continue;
        }
        const auto end = content.find(">", at, limit);
        if (!end) break;
        if (first == '/') {
            if (depth == 0) return nonsense();
            --depth;
        } else {
            if (!is_letter(first) && first != '_' && first < 0x80)
                return elements < 2 ? nonsense() : broken(*open, "its elements make no sense");
            if (elements++ == 0)
                root = content.text(at, static_cast<std::size_t>(std::min<std::uint64_t>(*end - at, 64)));
            if (content.u8(*end - 1) != '/') ++depth;
        }
        at = *end + 1;
        if (depth == 0) {
            const std::string_view name = root.starts_with("svg") || root.find(":svg") != std::string::npos ? "svg"
                                          : root.starts_with("html")                                        ? "html"
                                                                                                            : "xml";
            return whole(behind_line_end(content, at), Proof::structure, name);
        }
    }
    return elements < 4 || limit < kSector ? nonsense() : broken(limit, "its end is missing");
}

unsigned bid_xml(ByteView head) {
    if (begins_with(head, "<?xml ")) return 48;
    return begins_with(head, "<svg ") ? 40 : 0;
}

unsigned bid_html(ByteView head) {
    return begins_with(head, "<!doctype html") ? 80 : begins_with(head, "<html") ? 40 : 0;
}

Measured measure_html(Reader& content) {
    const std::uint64_t limit = end_of_characters(content, 0);
    std::uint64_t from = 0;
    std::optional<std::uint64_t> end;
    // Scripts may print the end of a page: the last one counts, up to where another page begins.
    while (from < limit) {
        const auto lower = content.find("</html>", from, limit);
        const auto upper = content.find("</HTML>", from, limit);
        const auto mark = lower && upper ? std::min(*lower, *upper) : lower ? *lower : upper.value_or(limit);
        if (mark >= limit) break;
        if (end && (content.find("<html", *end, mark) || content.find("<HTML", *end, mark) || mark > *end + 65536))
            break;
        end = from = mark + 7;
    }
    if (end) return whole(behind_line_end(content, *end), Proof::structure);
    if (limit < kSector || !content.find("<body", 0, limit)) return nonsense();
    return broken(limit, "its end is missing");
}

std::string between(Reader& content, std::string_view open, std::string_view close, std::uint64_t length) {
    const auto start = content.find(open, 0, std::min<std::uint64_t>(length, 65536));
    if (!start) return {};
    const std::string text = content.text(*start + open.size(), 200);
    const std::size_t end = text.find(close);
    if (end == std::string::npos) return {};
    std::string title = text.substr(0, end);
    while (!title.empty() && is_space(static_cast<unsigned char>(title.front()))) title.erase(0, 1);
    while (!title.empty() && is_space(static_cast<unsigned char>(title.back()))) title.pop_back();
    return printable(title);
}

Description describe_markup(Reader& content, std::uint64_t length) {
    return {between(content, "<title>", "<", length), {}, {}};
}

// --- RTF -------------------------------------------------------------------------------------------------------------

Measured measure_rtf(Reader& content) {
    std::uint64_t at = 0;
    std::uint64_t depth = 0;
    std::uint64_t controls = 0;
    const auto stopped = [&](std::uint64_t good) {
        return good < kSector || controls * 100 < good ? nonsense() : broken(good, "its end is missing");
    };
    while (content.holds(at, 1)) {
        const auto here = content.some(at);
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
                if (content.u8(end) == 0 && content.has(end - 1, "\n") && content.u8(end + 1) != 0) ++end;
                return whole(end, Proof::structure);
            }
            if (is_control(here[i])) return stopped(at);
        }
        if (skip > 0) ++at;
    }
    return stopped(content.size());
}

// --- calendars and cards ---------------------------------------------------------------------------------------------

// Lines between BEGIN and END; several may follow each other.
Measured measure_cards(Reader& content, std::string_view begin, std::string_view finish, std::string_view must) {
    std::uint64_t at = 0;
    std::uint64_t end = 0;
    const std::uint64_t limit = end_of_characters(content, 0);
    while (content.has(at, begin)) {
        const auto mark = content.find(finish, at, limit);
        if (!mark || !content.find(must, at, *mark)) break;
        end = behind_line_end(content, *mark + finish.size());
        at = end;
        while (at < limit && is_space(content.u8(at))) ++at;
    }
    if (end == 0)
        return limit >= kSector && content.find(must, 0, limit) ? broken(limit, "its end is missing") : nonsense();
    return whole(end, Proof::structure);
}

Measured measure_ics(Reader& content) { return measure_cards(content, "BEGIN:VCALENDAR", "END:VCALENDAR", "VERSION:"); }
Measured measure_vcf(Reader& content) { return measure_cards(content, "BEGIN:VCARD", "END:VCARD", "VERSION:"); }
Description describe_ics(Reader& content, std::uint64_t length) {
    std::string title = between(content, "X-WR-CALNAME:", "\n", length);
    if (title.empty()) title = between(content, "SUMMARY:", "\n", length);
    return {title, {}, {}};
}
Description describe_vcf(Reader& content, std::uint64_t length) {
    return {between(content, "FN:", "\n", length), {}, {}};
}

// --- mail ------------------------------------------------------------------------------------------------------------

constexpr std::array kFirstFields = {
    "return-path:", "received:", "delivered-to:", "message-id:",     "mime-version:",  "x-mozilla-status:", "from:",
    "date:",        "subject:",  "to:",           "dkim-signature:", "x-original-to:", "content-type:",     "x-"};

// The bytes of a block of header fields from `at` on, with the empty line behind it; 0 where there is none. `known`
// counts the fields that every mail has.
std::uint64_t header_block(Reader& content, std::uint64_t at, unsigned& known) {
    const std::uint64_t start = at;
    known = 0;
    for (unsigned lines = 0; lines < 2000; ++lines) {
        const auto end = content.find("\n", at, std::min(content.size(), at + 4096));
        if (!end) return 0;
        const std::string line = content.text(at, static_cast<std::size_t>(*end - at));
        at = *end + 1;
        if (line.empty() || line == "\r") return lines == 0 ? 0 : at - start;
        if (line[0] == ' ' || line[0] == '\t') {
            if (lines == 0) return 0;
            continue;
        }
        const std::size_t colon = line.find(':');
        if (colon == std::string::npos || colon == 0 || colon > 76) return 0;
        for (std::size_t i = 0; i < colon; ++i)
            if (line[i] <= ' ' || line[i] > '~') return 0;
        const std::string name = folded(line.substr(0, colon + 1));
        for (const std::string_view wanted :
             {"from:", "to:", "date:", "subject:", "message-id:", "received:", "mime-version:", "return-path:"})
            known += name == wanted ? 1 : 0;
    }
    return 0;
}

unsigned bid_eml(ByteView head) {
    return std::any_of(kFirstFields.begin(), kFirstFields.end(),
                       [&](std::string_view field) { return begins_with(head, field); })
               ? 20
               : 0;
}

Measured measure_eml(Reader& content) {
    unsigned known = 0;
    const std::uint64_t body = header_block(content, 0, known);
    if (body == 0 || known < 3) return nonsense();
    const std::uint64_t limit = end_of_characters(content, 0);
    if (limit <= body) return nonsense();
    // A mail of several parts ends with the last line between them.
    const std::string header = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(body, 65536)));
    const std::size_t at = folded(header).find("boundary=");
    if (at != std::string::npos && folded(header).size() == header.size()) {
        std::string line = header.substr(at + 9, 80);
        line = line[0] == '"' ? line.substr(1, line.find('"', 1) - 1) : line.substr(0, line.find_first_of("; \r\n"));
        const std::string last = fmt::format("--{}--", line);
        if (last.size() <= 64) {
            const auto end = content.find(last, body, limit);
            if (!end) return broken(limit, "its last part is missing");
            std::uint64_t behind = behind_line_end(content, *end + last.size());
            // Some writers end with an empty line more.
            const std::uint64_t next = behind_line_end(content, behind);
            if (next == limit) behind = next;
            return whole(behind, Proof::structure);
        }
    }
    return open_ended(limit, Proof::structure);
}

unsigned bid_mbox(ByteView head) {
    if (!head.has(0, "From ")) return 0;
    const auto end = std::find(head.bytes().begin(), head.bytes().end(), std::byte{'\n'});
    const auto length = static_cast<std::size_t>(end - head.bytes().begin());
    return length > 12 && length < 256 ? 48 : 0;
}

Measured measure_mbox(Reader& content) {
    const auto first = content.find("\n", 0, 512);
    unsigned known = 0;
    if (!first || header_block(content, *first + 1, known) == 0 || known < 2) return nonsense();
    return open_ended(end_of_characters(content, 0), Proof::structure);
}

Description describe_eml(Reader& content, std::uint64_t) {
    unsigned known = 0;
    const std::uint64_t body = header_block(content, 0, known);
    const MailHeader header =
        read_mail_header(content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(body, Reader::kMostText))));
    return {printable(header.subject), header.date, {}};
}

// --- plain text ------------------------------------------------------------------------------------------------------

struct Characters {
    bool utf16 = false;
    bool big = false;
    std::uint64_t end = 0;
    std::uint64_t letters = 0, lines = 0;
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
        }
    }
    return text;
}

// Only what ends within a sector that is filled up with zeros is believed to be a file: its end shows where it ends.
bool ends_like_a_file(Reader& content, std::uint64_t end) {
    const std::uint64_t filled = std::min((end + kSector - 1) / kSector * kSector, content.size());
    return end % kSector != 0 && filled > end && content.is_zeros(end, filled);
}

unsigned bid_text(ByteView head) {
    if (head.has(0, "\xFF\xFE") || head.has(0, "\xFE\xFF")) {
        const std::size_t zero = head.has(0, "\xFF\xFE") ? 3 : 2;
        unsigned plain = 0;
        for (std::size_t i = 0; i < 8 && zero + 2 * i < head.size(); ++i)
            plain += head.bytes()[zero + 2 * i] == std::byte{0} ? 1 : 0;
        return plain >= 4 ? 18 : 0;
    }
    const auto start = head.bytes().first(std::min<std::size_t>(head.size(), 64));
    return start.size() >= 16 && std::none_of(start.begin(), start.end(), is_control) ? 1 : 0;
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

// What goes on from elsewhere shows at its first character, or at a first line that is shorter than the others.
bool begins_like_a_file(const std::string& start, bool table) {
    if (start.empty()) return false;
    if (table) return true;
    const auto first = static_cast<unsigned char>(start[0]);
    const bool is_mark = std::string_view("#<{[\"'*-=/(").find(start[0]) != std::string_view::npos;
    if (first < 0x80 && std::isupper(first) == 0 && std::isdigit(first) == 0 && !is_mark) return false;
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

Measured measure_text(Reader& content) {
    constexpr std::uint64_t kLeast = 64;
    const Characters text = read_characters(content);
    if (text.end < kLeast || !ends_like_a_file(content, text.end)) return nonsense();
    const bool table = !text.utf16 && is_table(content, text.end);
    if (!text.utf16 && !begins_like_a_file(content.text(content.has(0, "\xEF\xBB\xBF") ? 3 : 0, 4096), table))
        return nonsense();
    const bool words = text.letters * (text.utf16 ? 4 : 2) >= text.end;
    if (!table && !words) return nonsense();
    if (text.foreign * 20 > text.end || (text.end > 4096 && text.lines == 0)) return nonsense();
    return open_ended(text.end, Proof::length, table ? "csv" : "txt");
}

}  // namespace

const std::vector<Format>& text() {
    static const std::vector<Format> family = {
        {.name = "svg", .kind = Kind::picture, .extensions = {"svg"}, .is_text = true, .told_by = "xml"},
        {.name = "html",
         .kind = Kind::document,
         .extensions = {"html", "htm", "xhtml"},
         .is_text = true,
         .bid = bid_html,
         .measure = measure_html,
         .describe = describe_markup,
         .ending = "the end of its outermost element",
         .checked = "that it is text"},
        {.name = "xml",
         .kind = Kind::document,
         .extensions = {"xml", "gpx", "kml", "xsd", "plist"},
         .is_text = true,
         .bid = bid_xml,
         .measure = measure_xml,
         .describe = describe_markup,
         .ending = "the end of its outermost element",
         .checked = "that every element ends"},
        {.name = "rtf",
         .kind = Kind::document,
         .extensions = {"rtf"},
         .signatures = {{{0, "{\\rtf"sv}}},
         .measure = measure_rtf,
         .ending = "its closing brace",
         .checked = "the nesting of braces"},
        {.name = "ics",
         .kind = Kind::document,
         .extensions = {"ics"},
         .signatures = {{{0, "BEGIN:VCALENDAR"sv}}},
         .is_text = true,
         .measure = measure_ics,
         .describe = describe_ics,
         .ending = "its end line",
         .checked = "the lines between"},
        {.name = "vcf",
         .kind = Kind::document,
         .extensions = {"vcf"},
         .signatures = {{{0, "BEGIN:VCARD"sv}}},
         .is_text = true,
         .measure = measure_vcf,
         .describe = describe_vcf,
         .ending = "the end line of the last card",
         .checked = "the lines between"},
        {.name = "mbox",
         .kind = Kind::mail,
         .extensions = {"mbox", "mbx"},
         .is_text = true,
         .bid = bid_mbox,
         .measure = measure_mbox,
         .ending = "where text ends",
         .checked = "the header of the first message"},
        {.name = "eml",
         .kind = Kind::mail,
         .extensions = {"eml", "emlx"},
         .is_text = true,
         .bid = bid_eml,
         .measure = measure_eml,
         .describe = describe_eml,
         .ending = "its last part, or where text ends",
         .checked = "the header"},
        {.name = "txt",
         .kind = Kind::document,
         .extensions = {"txt", "log", "md", "tex", "ini", "cfg", "conf", "yaml", "yml", "py", "sh", "c", "h", "cpp"},
         .is_text = true,
         .bid = bid_text,
         .measure = measure_text,
         .ending = "where text ends and zeros follow",
         .checked = "that it is text"},
        {.name = "csv", .kind = Kind::document, .extensions = {"csv", "tsv"}, .is_text = true, .told_by = "txt"},
        {.name = "json", .kind = Kind::document, .extensions = {"json", "geojson"}, .is_text = true},
    };
    return family;
}

}  // namespace dredger::formats

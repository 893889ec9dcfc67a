// Drawings and exchange files that are text, or begin as such: PostScript and EPS ("PostScript Language Document
// Structuring Conventions", 3.0; "Encapsulated PostScript File Format"), DXF (its reference), STEP (ISO 10303-21), IGES
// (5.3), OBJ-like PLY.
#include <algorithm>
#include <fmt/format.h>

#include "base/checked.h"
#include "base/text.h"
#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

// The end of a document, not that of one that is embedded in it. Binary data may stand within.
std::optional<std::uint64_t> end_of_postscript(Reader& content, std::uint64_t limit) {
    unsigned depth = 0;
    for (std::uint64_t at = 0; const auto comment = content.find("%%", at, limit);) {
        at = *comment + 2;
        if (content.has(at, "BeginDocument")) ++depth;
        if (content.has(at, "EndDocument") && depth > 0) --depth;
        // Embedded ones that nobody announced are followed by more of the document.
        if (!content.has(at, "EOF") || depth > 0) continue;
        std::uint64_t end = behind_line_end(content, at + 3);
        if (content.has(end, "\x04")) ++end;
        // What a drawing program keeps for itself.
        if (content.has(end, "%AI9_PrintingDataEnd")) {
            constexpr std::string_view kLast = "%AI9_PrivateDataEnd";
            // It is told of before it comes, in parentheses.
            for (auto last = content.find(kLast, end, limit); last; last = content.find(kLast, *last + 1, limit))
                if (!content.has(*last - 1, "(")) return behind_line_end(content, *last + kLast.size());
            continue;
        }
        const std::string next = content.text(end, 2);
        const bool goes_on =
            next.size() == 2 && next[0] > ' ' && next[0] < 0x7F && end % 512 != 0 && !content.has(end, "%!PS");
        if (!goes_on) return end;
    }
    return std::nullopt;
}

Measured measure_postscript(Reader& content) {
    constexpr std::uint64_t kLeast = 512;
    const std::string_view format = content.text(0, 64).find("EPSF") != std::string::npos ? "eps" : "ps";
    // Text that ends with zeros up to the next sector is all there is, though binary data may stand within.
    const std::uint64_t limit = end_of_characters(content, 0);
    const bool ends_as_text = limit >= kLeast && ends_like_a_file(content, limit);
    if (const auto end = end_of_postscript(content, ends_as_text ? limit : content.size()))
        return whole(*end, Proof::length, format);
    if (ends_as_text) return open_ended(limit, Proof::length, format);
    return limit < kLeast ? nonsense() : broken(limit, "its end mark is missing", 0, format);
}

// With a preview: a header of places and lengths.
Measured measure_dos_eps(Reader& content) {
    std::uint64_t end = 30;
    for (const std::uint64_t at : {4U, 12U, 20U}) {
        const std::uint64_t start = content.u32le(at), length = content.u32le(at + 4);
        if (length != 0 && start < 28) return nonsense();
        if (length != 0) end = std::max(end, start + length);
    }
    if (!content.has(content.u32le(4), "%!PS")) return nonsense();
    return sized(content, end, Proof::length, "eps");
}

Description describe_postscript(Reader& content, std::uint64_t length) {
    std::string title = between(content, "%%Title:", "\n", length);
    if (title.size() > 1 && title.front() == '(' && title.find(')') != std::string::npos)
        title = title.substr(1, title.rfind(')') - 1);
    return {printable(title), {}, {}};
}

unsigned bid_dxf(ByteView head) {
    for (const std::string_view start : {"  0\r\nSECTION\r\n", "  0\nSECTION\n", "0\nSECTION\n", "0\r\nSECTION\r\n"})
        if (head.has(0, start)) return 80;
    return head.has(0, "999\n") || head.has(0, "999\r\n") ? 24 : 0;
}

Measured measure_dxf(Reader& content) {
    if (content.text(0, 2048).find("SECTION") == std::string::npos) return nonsense();
    const std::uint64_t limit = end_of_characters(content, 0);
    // A group of code 0, on a line of its own before it.
    for (auto found = content.find("\nEOF", 0, limit); found; found = content.find("\nEOF", *found + 4, limit)) {
        const std::string before = content.text(*found - std::min<std::uint64_t>(*found, 2), 2);
        const bool is_zero = before.size() == 2 && (before[1] == '0' || (before[0] == '0' && before[1] == '\r'));
        if (is_zero &&
            (!content.holds(*found + 4, 1) || is_space(content.u8(*found + 4)) || content.u8(*found + 4) == 0))
            return whole(behind_line_end(content, *found + 4), Proof::chain);
    }
    return broken(limit, "its last line is missing");
}

Measured measure_step(Reader& content) { return text_until(content, "END-ISO-10303-21;"); }

// Lines of 80 characters, each with its section's letter and number at the end.
std::uint64_t iges_line(Reader& content, std::uint64_t at, char section) {
    const std::string line = content.text(at, 82);
    if (line.size() < 80 || line[72] != section) return 0;
    return line.size() > 80 && line[80] == '\n'                       ? 81
           : line.size() > 81 && line[80] == '\r' && line[81] == '\n' ? 82
           : line.size() == 80                                        ? 80
                                                                      : 0;
}

unsigned bid_iges(ByteView head) { return head.has(72, "S      1") || head.has(72, "S0000001") ? 64 : 0; }

Measured measure_iges(Reader& content) {
    std::uint64_t at = 0;
    for (const char section : {'S', 'G', 'D', 'P', 'T'}) {
        bool any = false;
        while (const std::uint64_t length = iges_line(content, at, section)) {
            at += length;
            any = true;
            if (section == 'T') return whole(at, Proof::chain);
        }
        if (!any && section != 'P')
            return section == 'S' ? nonsense() : broken(std::min(at, content.size()), "a section is missing");
    }
    return broken(std::min(at, content.size()), "its last line is missing");
}

// A header in lines, then elements: numbers of the types that it tells, or lines of them.
Measured measure_ply(Reader& content) {
    const auto behind = content.find("end_header", 0, std::min<std::uint64_t>(content.size(), 65536));
    if (!behind) return nonsense();
    const std::uint64_t data = behind_line_end(content, *behind + 10);
    const std::string head = content.text(0, static_cast<std::size_t>(*behind));
    const bool is_text = head.find("format ascii") != std::string::npos;
    const bool big = head.find("format binary_big") != std::string::npos;
    const auto size_of = [](std::string_view type) -> std::uint64_t {
        for (const auto& [name, size] :
             {std::pair("char", 1), std::pair("uchar", 1), std::pair("int8", 1), std::pair("uint8", 1),
              std::pair("short", 2), std::pair("ushort", 2), std::pair("int16", 2), std::pair("uint16", 2),
              std::pair("int", 4), std::pair("uint", 4), std::pair("int32", 4), std::pair("uint32", 4),
              std::pair("float", 4), std::pair("float32", 4), std::pair("double", 8), std::pair("float64", 8)})
            if (type == name) return static_cast<std::uint64_t>(size);
        return 0;
    };
    struct Property {
        std::uint64_t count, size;  // bytes; count 0: it is no list
    };
    struct Element {
        std::uint64_t count;
        std::vector<Property> properties;
    };
    std::vector<Element> elements;
    std::uint64_t lines = 0;
    for (std::size_t from = 0; from < head.size();) {
        const std::size_t end = std::min(head.find('\n', from), head.size());
        std::vector<std::string> words;
        for (std::size_t at = from; at < end;) {
            const std::size_t stop = std::min(head.find_first_of(" \r\n", at), end);
            if (stop > at) words.push_back(head.substr(at, stop - at));
            at = stop + 1;
        }
        from = end + 1;
        if (words.size() >= 3 && words[0] == "element") {
            const std::uint64_t count = std::min(number_in(words[2]).value_or(0), std::uint64_t{1} << 40);
            elements.push_back({count, {}});
            lines += count;
        }
        if (words.size() >= 3 && words[0] == "property" && !elements.empty()) {
            const bool is_list = words[1] == "list" && words.size() >= 5;
            elements.back().properties.push_back({is_list ? size_of(words[2]) : 0, size_of(words[is_list ? 3 : 1])});
            if (elements.back().properties.back().size == 0) return nonsense();
        }
    }
    if (elements.empty()) return nonsense();
    std::uint64_t at = data;
    if (is_text) {
        const std::uint64_t limit = end_of_characters(content, data);
        for (; lines > 0 && at < limit; --lines) {
            const auto feed = content.find("\n", at, limit);
            at = feed ? *feed + 1 : limit;
        }
        return lines == 0 ? whole(at, Proof::chain) : broken(limit, "its last lines are missing");
    }
    for (const Element& element : elements) {
        std::uint64_t plain = 0;
        bool has_lists = false;
        for (const Property& property : element.properties) {
            plain += property.count == 0 ? property.size : 0;
            has_lists = has_lists || property.count != 0;
        }
        if (!has_lists) {
            at = checked_add(at, checked_mul(plain, element.count).value_or(~std::uint64_t{0}))
                     .value_or(~std::uint64_t{0});
            if (!content.holds(0, at)) return sized(content, at, Proof::length);
            continue;
        }
        for (std::uint64_t n = 0; n < element.count && content.ok(); ++n)
            for (const Property& property : element.properties) {
                std::uint64_t count = 1;
                if (property.count == 1) count = content.u8(at);
                if (property.count == 2) count = big ? content.u16be(at) : content.u16le(at);
                if (property.count == 4) count = big ? content.u32be(at) : content.u32le(at);
                at += property.count + count * property.size;
            }
    }
    return sized(content, at, Proof::chain);
}

}  // namespace

const std::vector<Format>& drawings() {
    static const std::vector<Format> family = {
        {.name = "ps",
         .kind = Kind::document,
         .extensions = {"ps"},
         .signatures = {{{0, "%!PS"sv}}},
         .is_loose = true,
         .measure = measure_postscript,
         .describe = describe_postscript,
         .ending = "its end mark, not one of a document within it",
         .checked = "that documents within it end"},
        {.name = "eps",
         .kind = Kind::picture,
         .extensions = {"eps", "epsf", "epsi"},
         .signatures = {{{0, "\xC5\xD0\xD3\xC6"sv}}},
         .measure = measure_dos_eps,
         .ending = "the furthest of its parts",
         .checked = "the header"},
        {.name = "dxf",
         .kind = Kind::picture,
         .extensions = {"dxf"},
         .signatures = {{{0, "  0\r\nSECTION"sv}},
                        {{0, "  0\nSECTION"sv}},
                        {{0, "0\nSECTION"sv}},
                        {{0, "0\r\nSECTION"sv}},
                        {{0, "999"sv}}},
         .is_loose = true,
         .bid = bid_dxf,
         .measure = measure_dxf,
         .ending = "its last line",
         .checked = "that it is text"},
        {.name = "step",
         .kind = Kind::picture,
         .extensions = {"stp", "step", "p21", "ifc"},
         .signatures = {{{0, "ISO-10303-21;"sv}}},
         .is_loose = true,
         .measure = measure_step,
         .ending = "its last line",
         .checked = "that it is text"},
        {.name = "iges",
         .kind = Kind::picture,
         .extensions = {"igs", "iges"},
         .signatures = {{{72, "S      1"sv}}, {{72, "S0000001"sv}}},
         .is_loose = true,
         .bid = bid_iges,
         .measure = measure_iges,
         .ending = "its last line",
         .checked = "the letters of all lines"},
        {.name = "ply",
         .kind = Kind::picture,
         .extensions = {"ply"},
         .signatures = {{{0, "ply\nformat "sv}}, {{0, "ply\r\nformat "sv}}, {{0, "ply\ncomment "sv}}},
         .is_loose = true,
         .measure = measure_ply,
         .ending = "its elements, as many as the header tells",
         .checked = "the header, and the lists of its elements"},
    };
    return family;
}

}  // namespace dredger::formats

// Mark-up: HTML, XML, SVG.
#include <algorithm>
#include <pugixml.hpp>

#include "formats/characters.h"

namespace dredger::formats {

using namespace std::string_view_literals;

namespace {

constexpr std::uint64_t kSector = 512;

// Walks the tags up to the end of the outermost element.
Measured measure_xml(Reader& content) {
    std::uint64_t at = content.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    const std::uint64_t limit = end_of_characters(content, 0);
    // Text in angle brackets may be anything.
    const bool is_declared = content.has(at, "<?xml") || content.has(at, "<svg") || content.has(at, "<!DOCTYPE");
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
                return elements < 2 || !is_declared ? nonsense() : broken(*open, "its elements make no sense");
            if (elements++ == 0)
                root = content.text(at, static_cast<std::size_t>(std::min<std::uint64_t>(*end - at, 64)));
            if (content.u8(*end - 1) != '/') ++depth;
        }
        at = *end + 1;
        if (depth == 0) {
            const std::string_view name = root.starts_with("svg") || root.find(":svg") != std::string::npos ? "svg"
                                          : root.starts_with("html")                                        ? "html"
                                                                                                            : "xml";
            return whole(behind_line_end(content, at), Proof::chain, name);
        }
    }
    if (elements < 4 || limit < kSector || !is_declared) return nonsense();
    return ends_like_a_file(content, limit) ? open_ended(limit, Proof::length) : broken(limit, "its end is missing");
}

unsigned bid_xml(ByteView head) {
    if (begins_with(head, "<?xml ")) return 48;
    if (begins_with(head, "<svg ")) return 40;
    // Documents without a declaration begin with their outermost element, or what they are.
    if (begins_with(head, "<!doctype ") || begins_with(head, "<!--")) return 10;
    std::size_t at = head.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    return head.has(at, "<") && is_letter(head.u8(at + 1).value_or(0)) ? 8 : 0;
}

unsigned bid_html(ByteView head) {
    if (begins_with(head, "<!doctype html")) return 80;
    if (begins_with(head, "<html")) return 40;
    // A declaration, or a remark, may stand before it.
    if (!begins_with(head, "<?xml ") && !begins_with(head, "<!--")) return 0;
    const std::string start(reinterpret_cast<const char*>(head.bytes().data()),
                            std::min<std::size_t>(head.size(), 1024));
    return start.find("<html") != std::string::npos || start.find("<HTML") != std::string::npos ? 52 : 0;
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
    if (end) return whole(behind_line_end(content, *end), Proof::chain);
    // The end mark may be left out, and so may others.
    if (ends_like_a_file(content, limit)) return open_ended(limit, Proof::length);
    if (limit < kSector || !content.find("<body", 0, limit)) return nonsense();
    return broken(limit, "its end is missing");
}

// HTML and SVG: the text of the first title, with its entities resolved.
Description describe_markup(Reader& content, std::uint64_t length) {
    constexpr std::size_t kFarthest = 64 << 10, kLongest = 1 << 10;  // bytes
    const std::string head = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(length, kFarthest)));
    const std::size_t tag = std::min(head.find("<title"), head.find("<TITLE"));
    const std::size_t open = head.find('>', std::min(tag, head.size()));
    if (open == std::string::npos) return {};
    const std::string text = head.substr(open + 1, std::min(head.find('<', open), open + kLongest) - open - 1);
    pugi::xml_document resolved;
    const bool is_resolved = resolved.load_string(("<title>" + text + "</title>").c_str());
    return {trimmed(is_resolved ? resolved.first_child().child_value() : text), {}, {}};
}

}  // namespace

std::vector<Format> markup_formats() {
    return {
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
    };
}

}  // namespace dredger::formats

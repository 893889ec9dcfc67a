#include "preview/text.h"

#include <algorithm>

#include "base/text.h"
#include "formats/format.h"

namespace dredger::preview {
namespace {

bool is_utf8(std::string_view text) {
    unsigned more = 0;
    for (const char c : text) {
        const auto byte = static_cast<unsigned char>(c);
        if (more > 0 ? (byte & 0xC0U) != 0x80 : (byte & 0xC0U) == 0x80 || byte > 0xF4) return false;
        more = more > 0 ? more - 1 : byte >= 0xF0 ? 3 : byte >= 0xE0 ? 2 : byte >= 0xC0 ? 1 : 0;
    }
    return true;
}

std::string entity(std::string_view name) {
    if (name == "amp") return "&";
    if (name == "lt") return "<";
    if (name == "gt") return ">";
    if (name == "quot") return "\"";
    if (name == "apos") return "'";
    return name == "nbsp" ? " " : "";
}

}  // namespace

std::string cut_to_characters(std::string text, std::size_t most) {
    if (text.size() <= most) return text;
    std::size_t end = most;
    while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0U) == 0x80) --end;
    text.resize(end);
    return text;
}

std::string text_of_markup(std::string_view markup, std::size_t most) {
    std::string text;
    const auto new_line = [&] {
        if (!text.empty() && text.back() != '\n') text += '\n';
    };
    for (std::size_t at = 0; at < markup.size() && text.size() <= most;) {
        if (markup[at] == '<') {
            const std::size_t end = std::min(markup.find('>', at), markup.size());
            std::string_view tag = markup.substr(at + 1, end - at - 1);
            at = end + 1;
            std::string name = folded(tag.substr(0, tag.find_first_of(" \t\r\n/", tag.starts_with('/') ? 1 : 0)));
            if (name == "script" || name == "style") {
                std::string closing = "</";
                closing += name;
                at = std::min(markup.find(closing, at), markup.size());
            }
            if (const std::size_t colon = name.find(':'); colon != std::string::npos) name.erase(1, colon);
            for (const char* line :
                 {"/p", "/h", "/tr", "/row", "/li", "/div", "/h1", "/h2", "/h3", "/title", "br", "/si"})
                if (name == line) new_line();
            if (name == "/td" || name == "/th" || name == "/c" || name == "/v") text += '\t';
        } else if (markup[at] == '&') {
            const std::size_t end = markup.find(';', at);
            if (end == std::string_view::npos || end - at > 10) {
                text += markup[at++];
                continue;
            }
            text += entity(markup.substr(at + 1, end - at - 1));
            at = end + 1;
        } else {
            const char c = markup[at++];
            if (c == '\r' || c == '\n' || c == '\t') {
                if (!text.empty() && text.back() != ' ' && text.back() != '\n') text += ' ';
            } else {
                text += c;
            }
        }
    }
    return text;
}

std::string plain_text(Reader& content, bool is_markup) {
    const std::size_t wanted = is_markup ? 16 * kMaxText : 2 * kMaxText;
    std::string bytes = content.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(wanted, content.size())));
    const auto view = std::as_bytes(std::span(bytes));
    std::string text;
    if (bytes.starts_with("\xFF\xFE")) {
        text = utf16le_to_utf8(view.subspan(2, (view.size() - 2) / 2 * 2));
    } else if (bytes.starts_with("\xFE\xFF")) {
        for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) std::swap(bytes[i], bytes[i + 1]);
        text = utf16le_to_utf8(view.subspan(2, (view.size() - 2) / 2 * 2));
    } else {
        if (bytes.starts_with("\xEF\xBB\xBF")) bytes.erase(0, 3);
        // A character may be cut at the end.
        std::string_view whole(bytes);
        whole.remove_suffix(std::min<std::size_t>(whole.size(), content.size() > wanted ? 4 : 0));
        text = is_utf8(whole) ? bytes : code_page_to_utf8(std::as_bytes(std::span(bytes)), CodePage::windows1252);
    }
    std::erase(text, '\r');
    return cut_to_characters(is_markup ? text_of_markup(text) : text);
}

std::vector<Part> entries_of(Reader& content, std::size_t most) {
    std::vector<Part> entries;
    (void)format_named("zip")->take_apart(content, [&](Part&& part) {
        entries.push_back(std::move(part));
        return entries.size() < most;
    });
    return entries;
}

std::string own_thumbnail(Reader& content) {
    constexpr std::size_t kMaxEntries = 4000;
    constexpr std::size_t kMaxBytes = 32 << 20;
    const auto entries = entries_of(content, kMaxEntries);
    const auto is_picture = [](std::string_view name) {
        return name.ends_with(".jpg") || name.ends_with(".jpeg") || name.ends_with(".png");
    };
    for (const char* start : {"docProps/thumbnail", "Thumbnails/thumbnail", "QuickLook/Thumbnail", "preview"})
        for (const Part& entry : entries)
            if (entry.name.starts_with(start) && is_picture(folded(entry.name)))
                return bytes_of(content, entry, kMaxBytes);
    for (const Part& entry : entries)
        if (const std::string name = folded(entry.name); name.find("cover") != std::string::npos && is_picture(name))
            return bytes_of(content, entry, kMaxBytes);
    return {};
}

std::string office_text(Reader& content, std::size_t most) {
    constexpr std::size_t kMaxEntries = 4000;
    const std::size_t to_unpack = std::max<std::size_t>(512 << 10, 16 * most);
    const auto entries = entries_of(content, kMaxEntries);
    for (const char* name : {"word/document.xml", "content.xml", "xl/sharedStrings.xml", "xl/worksheets/sheet1.xml",
                             "ppt/slides/slide1.xml"})
        for (const Part& entry : entries)
            if (entry.name == name)
                return cut_to_characters(text_of_markup(bytes_of(content, entry, to_unpack), most), most);
    for (const Part& entry : entries)
        if (entry.name.ends_with(".xhtml") || entry.name.ends_with(".html"))
            return cut_to_characters(text_of_markup(bytes_of(content, entry, to_unpack), most), most);
    return {};
}

}  // namespace dredger::preview

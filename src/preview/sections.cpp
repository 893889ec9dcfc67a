#include "preview/sections.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <map>

#include "formats/compound_file.h"
#include "preview/compound.h"
#include "preview/decoders.h"
#include "preview/sandbox.h"
#include "preview/text.h"

namespace dredger::preview {
namespace {

constexpr std::size_t kMaxEntries = 4000;

using Sections = std::vector<Section>;

// "page 1", "page 2" ... of what form feeds part; without a number where there is one only.
Sections numbered(const std::string& text, const char* what) {
    Sections sections;
    for (std::size_t from = 0; from <= text.size();) {
        const std::size_t end = std::min(text.find('\f', from), text.size());
        sections.push_back({fmt::format("{} {}", what, sections.size() + 1), text.substr(from, end - from)});
        from = end + 1;
    }
    if (sections.size() == 1) sections.front().where.clear();
    return sections;
}

// Of ".../slide12.xml" 12; 0 where it is no such name.
unsigned number_in(std::string_view name, std::string_view before) {
    unsigned number = 0;
    if (!name.starts_with(before) || !name.ends_with(".xml")) return 0;
    const auto [end, error] = std::from_chars(name.data() + before.size(), name.data() + name.size(), number);
    return error == std::errc() && std::string_view(end, name.data() + name.size()) == ".xml" ? number : 0;
}

std::string attribute_of(std::string_view tag, std::string_view name) {
    const std::string start = fmt::format("{}=\"", name);
    const auto at = tag.find(start);
    if (at == tag.npos) return {};
    const auto end = tag.find('"', at + start.size());
    return end == tag.npos ? std::string() : text_of_markup(tag.substr(at + start.size(), end - at - start.size()));
}

// What stands between each `<tag ...>` and its end.
std::vector<std::string_view> elements_of(std::string_view markup, std::string_view tag) {
    std::vector<std::string_view> elements;
    const std::string start = fmt::format("<{}", tag), end = fmt::format("</{}>", tag);
    for (std::size_t at = 0; (at = markup.find(start, at)) != markup.npos;) {
        const std::size_t after = at + start.size();
        const bool is_it = after < markup.size() && (markup[after] == ' ' || markup[after] == '>');
        const std::size_t stop = is_it ? std::min(markup.find(end, after), markup.size()) : after;
        if (is_it) elements.push_back(markup.substr(at, stop - at));
        at = stop;
    }
    return elements;
}

// The cells of a sheet of SpreadsheetML (ECMA-376, 18.3.1.4): text is kept once, in a table that they refer to.
std::string cells_of(std::string_view sheet, const std::vector<std::string>& shared) {
    std::string text;
    for (const std::string_view row : elements_of(sheet, "row")) {
        for (const std::string_view cell : elements_of(row, "c")) {
            const auto values = elements_of(cell, "v");
            const std::string value = values.empty() ? text_of_markup(cell) : text_of_markup(values.front());
            std::size_t index = 0;
            const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), index);
            const bool is_shared = attribute_of(cell.substr(0, cell.find('>')), "t") == "s" && error == std::errc();
            text += (is_shared ? index < shared.size() ? shared[index] : "" : value) + "\t";
        }
        text += '\n';
    }
    return text;
}

// Names of an e-book's chapters and the like.
bool is_page_of_book(std::string_view name) { return name.ends_with(".xhtml") || name.ends_with(".html"); }

// OpenDocument keeps all in one part: sheets and slides are elements of it (ODF 1.2, 9.1.2 and 10.2.4).
Sections sections_of_open_document(const std::string& markup, std::size_t most) {
    Sections sections;
    for (const auto& [tag, name, what] :
         {std::tuple("draw:page", "draw:name", "slide"), std::tuple("table:table", "table:name", "sheet")}) {
        const bool is_whole_document =
            markup.find(what == std::string_view("slide") ? "<office:presentation" : "<office:spreadsheet") !=
            std::string::npos;
        if (!is_whole_document) continue;
        std::size_t number = 0;
        for (const std::string_view part : elements_of(markup, tag)) {
            ++number;
            const std::string title = attribute_of(part.substr(0, part.find('>')), name);
            sections.push_back({what == std::string_view("sheet") && !title.empty()
                                    ? fmt::format("{} {}", what, title)
                                    : fmt::format("{} {}", what, number),
                                text_of_markup(part, most)});
        }
    }
    if (sections.empty()) sections.push_back({"", text_of_markup(markup, most)});
    return sections;
}

Sections sections_of_package(Reader& reader, std::size_t most) {
    const std::size_t to_unpack = std::max<std::size_t>(512 << 10, 16 * most);
    const auto entries = entries_of(reader, kMaxEntries);
    const auto unpacked = [&](const Part& entry) { return bytes_of(reader, entry, to_unpack); };
    Sections body, notes;
    std::map<unsigned, Section> numbered_parts;  // in the order of their numbers, not of their bytes
    std::vector<std::string> shared, sheet_names;
    for (const Part& entry : entries) {
        if (entry.name == "xl/sharedStrings.xml") {
            const std::string markup = unpacked(entry);
            for (const std::string_view text : elements_of(markup, "si")) shared.push_back(text_of_markup(text));
        }
        if (entry.name == "xl/workbook.xml") {
            const std::string markup = unpacked(entry);
            for (const std::string_view sheet : elements_of(markup, "sheet"))
                sheet_names.push_back(attribute_of(sheet.substr(0, sheet.find('>')), "name"));
        }
    }
    for (const Part& entry : entries) {
        const std::string_view name = entry.name;
        if (name == "content.xml") return sections_of_open_document(unpacked(entry), most);
        if (name == "word/document.xml") body.push_back({"", text_of_markup(unpacked(entry), most)});
        for (const auto& [part, where] :
             {std::pair("word/footnotes.xml", "notes"), std::pair("word/endnotes.xml", "notes"),
              std::pair("word/comments.xml", "comments")})
            if (name == part) notes.push_back({where, text_of_markup(unpacked(entry), most)});
        if (number_in(name, "word/header") > 0 || number_in(name, "word/footer") > 0)
            notes.push_back({"header or footer", text_of_markup(unpacked(entry), most)});
        if (const unsigned slide = number_in(name, "ppt/slides/slide"); slide > 0)
            numbered_parts[slide] = {fmt::format("slide {}", slide), text_of_markup(unpacked(entry), most)};
        if (const unsigned slide = number_in(name, "ppt/notesSlides/notesSlide"); slide > 0)
            notes.push_back({"speaker's notes", text_of_markup(unpacked(entry), most)});
        if (const unsigned sheet = number_in(name, "xl/worksheets/sheet"); sheet > 0)
            numbered_parts[sheet] = {sheet <= sheet_names.size() && !sheet_names[sheet - 1].empty()
                                         ? fmt::format("sheet {}", sheet_names[sheet - 1])
                                         : fmt::format("sheet {}", sheet),
                                     cells_of(unpacked(entry), shared)};
        if (is_page_of_book(name)) body.push_back({entry.name, text_of_markup(unpacked(entry), most)});
    }
    for (auto& [number, section] : numbered_parts) body.push_back(std::move(section));
    // A workbook whose sheets are lost still has its words.
    if (body.empty() && !shared.empty()) body.push_back({"", fmt::format("{}", fmt::join(shared, "\n"))});
    std::move(notes.begin(), notes.end(), std::back_inserter(body));
    return body;
}

Sections read(const Medium& content, Reader& reader, const std::string& format, std::size_t most) {
    if (format == "pdf") return numbered(text_of_pages(content, most), "page");
    if (format == "eml" || format == "mbox") return numbered(text_of_mail(content, most), "message");
    if (reader.has(0, formats::CompoundFile::kMark)) return {{"", compound_text(reader, most)}};
    return sections_of_package(reader, most);
}

// What comes out of the process of its own is one text.
constexpr char kBeforeText = '\v', kBehind = '\f';

std::string packed(Sections sections, std::size_t most) {
    std::string all;
    for (Section& section : sections) {
        for (std::string* text : {&section.where, &section.text})
            std::erase_if(*text, [](char c) { return c == kBeforeText || c == kBehind; });
        if (all.size() < most)
            all +=
                section.where + kBeforeText + cut_to_characters(std::move(section.text), most - all.size()) + kBehind;
    }
    return all;
}

Sections taken_apart(const std::string& all) {
    Sections sections;
    for (std::size_t from = 0; from < all.size();) {
        const std::size_t text = std::min(all.find(kBeforeText, from), all.size() - 1);
        const std::size_t end = std::min(all.find(kBehind, text), all.size());
        sections.push_back({all.substr(from, text - from), all.substr(text + 1, end - text - 1)});
        from = end + 1;
    }
    return sections;
}

}  // namespace

std::vector<Section> sections_of(const Medium& content, const std::string& format, std::size_t most) {
    Budget budget;
    Reader reader(content, budget);
    const bool is_document = format == "pdf" || format == "eml" || format == "mbox" || reader.has(0, "PK\3\4") ||
                             reader.has(0, formats::CompoundFile::kMark);
    if (!is_document) return {};
    const auto answer = run_apart(content, [&](const Medium& told) {
        Budget of_job;
        Reader telling(told, of_job);
        return packed(read(told, telling, format, most), most);
    });
    return taken_apart(answer.value_or(""));
}

}  // namespace dredger::preview

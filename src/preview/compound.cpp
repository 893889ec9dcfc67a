#include "preview/compound.h"

#include <algorithm>

#include "base/bytes.h"
#include "base/text.h"
#include "formats/compound_file.h"
#include "preview/text.h"

namespace dredger::preview {
namespace {

using formats::CompoundFile;

// Characters of Word beyond letters: paragraph, cell, page and line end lines; fields show what stands behind their
// separator.
std::string readable(std::string_view text) {
    std::string plain;
    int in_field = 0;
    for (const char c : text) {
        if (c == '\x13') ++in_field;
        if ((c == '\x14' || c == '\x15') && in_field > 0) --in_field;
        if (in_field > 0) continue;
        if (c == '\r' || c == '\x0B' || c == '\x0C' || c == '\n')
            plain += '\n';
        else if (c == '\x07' || c == '\t')
            plain += '\t';
        else if (static_cast<unsigned char>(c) >= 0x20)
            plain += c;
    }
    return plain;
}

std::string latin(ByteView bytes) { return code_page_to_utf8(bytes.bytes(), CodePage::windows1252); }

// [MS-DOC] 2.4.1: the pieces of text, by the table that the header points to.
std::string word_text(const CompoundFile& file, std::size_t most) {
    const std::string document = file.stream("WordDocument");
    const ByteView fib = view_of(document);
    constexpr std::size_t kFlags = 10, kTableAt = 0x01A2;  // FibBase, fcClx
    const auto flags = fib.u16le(kFlags);
    const auto at = fib.u32le(kTableAt), length = fib.u32le(kTableAt + 4);
    if (!flags || !at || !length || fib.u16le(0) != 0xA5EC) return {};
    const std::string tables = file.stream((*flags & 0x0200U) != 0 ? "1Table" : "0Table");
    const auto table = view_of(tables).slice(*at, *length);
    if (!table) return {};
    std::size_t from = 0;
    while (table->u8(from).value_or(0) == 1) from += 3 + std::size_t{table->u16le(from + 1).value_or(0)};  // Prc
    const std::size_t size = table->u32le(from + 1).value_or(0);
    if (table->u8(from).value_or(0) != 2 || size < 4) return {};
    const std::size_t pieces = (size - 4) / 12;
    std::string text;
    for (std::size_t i = 0; i < pieces && text.size() < most; ++i) {
        const auto first = table->u32le(from + 5 + 4 * i), end = table->u32le(from + 9 + 4 * i);
        const auto place = table->u32le(from + 5 + 4 * (pieces + 1) + 8 * i + 2);
        if (!first || !end || !place || *end <= *first) break;
        const bool is_narrow = (*place & 0x40000000U) != 0;
        const std::size_t count = std::min<std::size_t>(*end - *first, most);
        const auto bytes = is_narrow ? fib.slice((*place & 0x3FFFFFFFU) / 2, count) : fib.slice(*place, count * 2);
        if (!bytes) break;
        text += readable(is_narrow ? latin(*bytes) : utf16le_to_utf8(bytes->bytes()));
    }
    return text;
}

// [MS-PPT] 2.9.42, 2.9.43: text atoms, wherever they lie in their containers.
void slide_text(ByteView records, std::size_t most, int depth, std::string& text) {
    constexpr std::uint16_t kTextChars = 0x0FA0, kTextBytes = 0x0FA8;
    for (std::size_t at = 0; at + 8 <= records.size() && text.size() < most;) {
        const std::uint16_t version = *records.u16le(at), type = *records.u16le(at + 2);
        const auto body = records.slice(at + 8, *records.u32le(at + 4));
        if (!body) return;
        if ((version & 0xFU) == 0xF && depth < 16)
            slide_text(*body, most, depth + 1, text);
        else if (type == kTextChars)
            text += readable(utf16le_to_utf8(body->bytes())) + "\n";
        else if (type == kTextBytes)
            text += readable(latin(*body)) + "\n";
        at += 8 + body->size();
    }
}

// [MS-XLS] 2.4.265: the table of strings. Where one goes on in a further record it is cut.
std::string sheet_text(const std::string& workbook, std::size_t most) {
    constexpr std::uint16_t kStrings = 0x00FC;
    const ByteView records = view_of(workbook);
    std::string text;
    for (std::size_t at = 0; at + 4 <= records.size();) {
        const auto body = records.slice(at + 4, *records.u16le(at + 2));
        if (!body) break;
        at += 4 + body->size();
        if (*records.u16le(at - 4 - body->size()) != kStrings) continue;
        for (std::size_t from = 8; from + 3 <= body->size() && text.size() < most;) {
            const std::size_t count = *body->u16le(from);
            const std::uint8_t flags = *body->u8(from + 2);
            const std::size_t runs = (flags & 8U) != 0 ? body->u16le(from + 3).value_or(0) : 0;
            const std::size_t extra =
                (flags & 4U) != 0 ? body->u32le(from + ((flags & 8U) != 0 ? 5 : 3)).value_or(0) : 0;
            const std::size_t head = 3 + ((flags & 8U) != 0 ? 2 : 0) + ((flags & 4U) != 0 ? 4 : 0);
            const auto characters = body->slice(from + head, (flags & 1U) != 0 ? count * 2 : count);
            if (!characters) break;
            text += readable((flags & 1U) != 0 ? utf16le_to_utf8(characters->bytes()) : latin(*characters)) + "\n";
            from += head + characters->size() + runs * 4 + extra;
        }
        break;
    }
    return text;
}

// [MS-OXMSG] 2.4: properties, by their tags.
std::string message_text(const CompoundFile& file) {
    std::string text;
    for (const auto& [label, tag] : {std::pair("From: ", "0C1A"), std::pair("To: ", "0E04"),
                                     std::pair("Subject: ", "0037"), std::pair("\n", "1000")}) {
        const std::string value = file.message_property(tag);
        if (!value.empty()) text += label + value + "\n";
    }
    std::erase(text, '\r');
    return text;
}

}  // namespace

std::string compound_text(Reader& content, std::size_t most) {
    const CompoundFile file(content);
    std::string text = word_text(file, most);
    if (text.empty()) slide_text(view_of(file.stream("PowerPoint Document")), most, 0, text);
    if (text.empty()) text = sheet_text(file.stream("Workbook"), most);
    if (text.empty()) text = message_text(file);
    return cut_to_characters(std::move(text), most);
}

}  // namespace dredger::preview

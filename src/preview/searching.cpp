#include "preview/searching.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/amounts.h"
#include "base/text.h"
#include "formats/reader.h"
#include "preview/sections.h"
#include "preview/text.h"
#include "preview/wanted_text.h"

namespace dredger::preview {
namespace {

constexpr std::size_t kPiece = 1 << 20;        // bytes searched together
constexpr std::size_t kMaxDocument = 8 << 20;  // bytes of a document's text
constexpr std::size_t kAround = 48;            // bytes of UTF-8 shown on either side, at most

bool ends_line(char c) { return c == '\n' || c == '\r' || c == '\0' || c == '\f'; }

// The line that it stands in, as far as there is room for.
std::string line_around(std::string_view text, std::size_t at, std::size_t length) {
    std::size_t from = at, to = at + length;
    while (from > 0 && at - from < kAround && !ends_line(text[from - 1])) --from;
    while (from < at && (static_cast<unsigned char>(text[from]) & 0xC0U) == 0x80) ++from;
    while (to < text.size() && to - at - length < kAround && !ends_line(text[to])) ++to;
    std::string line = cut_to_characters(std::string(text.substr(from, text.size() - from)), to - from);
    std::replace(line.begin(), line.end(), '\t', ' ');
    const auto first = line.find_first_not_of(' ');
    return printable(first == line.npos ? line : line.substr(first, line.find_last_not_of(' ') - first + 1));
}

std::string line_around(std::string_view bytes, const WantedText::Place& place) {
    if (!place.is_wide) return line_around(bytes, place.at, place.length);
    // Whole characters of UTF-16 on either side.
    const std::size_t before = std::min(place.at, 2 * kAround) / 2 * 2;
    const auto as_utf8 = [&](std::size_t from, std::size_t length) {
        const auto part = std::as_bytes(std::span(bytes.substr(from, length / 2 * 2)));
        return utf16le_to_utf8(part);
    };
    const std::string head = as_utf8(place.at - before, before), itself = as_utf8(place.at, place.length);
    return line_around(head + itself + as_utf8(place.at + place.length, 2 * kAround), head.size(), itself.size());
}

std::optional<Passage> passage_in_bytes(Reader& content, const WantedText& wanted) {
    constexpr std::uint64_t kSector = 512;
    std::uint64_t lines = 1;
    bool is_text = true;
    for (std::uint64_t at = 0; at < content.size();) {
        const std::string piece = content.text(at, kPiece);
        const auto place = wanted.find_in(piece);
        const std::string_view before = std::string_view(piece).substr(0, place ? place->at : piece.size());
        is_text = is_text && before.find('\0') == before.npos && !(place && place->is_wide);
        if (place) {
            lines += static_cast<std::uint64_t>(std::count(before.begin(), before.end(), '\n'));
            return Passage{is_text ? fmt::format("line {}", count_text(lines))
                                   : fmt::format("byte {}", count_text(at + place->at)),
                           line_around(piece, *place)};
        }
        const std::uint64_t end = at + piece.size();
        if (content.budget().is_spent() || end >= content.size()) break;
        // What can't be read is passed over; what the text lies across is searched again.
        const std::uint64_t next =
            piece.size() < kPiece ? end / kSector * kSector + kSector : end - std::min(wanted.longest(), kPiece / 2);
        lines += static_cast<std::uint64_t>(
            std::count(before.begin(), before.begin() + static_cast<std::ptrdiff_t>(std::min(next, end) - at), '\n'));
        at = next;
    }
    return std::nullopt;
}

}  // namespace

std::string document_text(const Medium& content, const std::string& format, std::size_t most) {
    std::string text;
    for (const Section& section : sections_of(content, format, most)) text += (text.empty() ? "" : "\n") + section.text;
    return text;
}

std::optional<Passage> passage_with(const Medium& content, const Candidate& candidate, const std::string& text) {
    const WantedText wanted(text);
    for (const Section& section : sections_of(content, candidate.format, kMaxDocument))
        if (const auto place = wanted.find_in(section.text))
            return Passage{section.where, line_around(section.text, *place)};
    Budget budget;
    Reader reader(content, budget);
    return passage_in_bytes(reader, wanted);
}

}  // namespace dredger::preview

// What formats made of characters have in common.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "formats/format.h"

namespace dredger::formats {

inline bool is_space(unsigned c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; }

// Without the locale's rules, which a call for every byte would ask for.
inline unsigned folded_letter(unsigned c) { return c >= 'A' && c <= 'Z' ? c | 0x20U : c; }
inline bool is_letter(unsigned c) { return folded_letter(c) >= 'a' && folded_letter(c) <= 'z'; }

// One that no text has.
inline bool is_control(std::byte b) {
    const auto c = std::to_integer<unsigned>(b);
    return c < 0x20 ? c != '\t' && c != '\r' && c != '\n' && c != '\f' && c != 0x1B : c == 0x7F;
}

// Where the first byte stands that no text has.
std::uint64_t end_of_characters(Reader& content, std::uint64_t at);

// Whether text that ends there is a file's end: drivers fill the sector with zeros, and what goes on elsewhere fills
// it.
bool ends_like_a_file(Reader& content, std::uint64_t end);

// Behind one line end, where there is one.
std::uint64_t behind_line_end(Reader& content, std::uint64_t at);

// Letter case is ignored; a byte order mark and spaces may stand before it.
bool begins_with(ByteView head, std::string_view word);

// The number that a text begins with, behind spaces; none: it begins with something else.
std::optional<std::uint64_t> number_in(std::string_view text);

// Measures text that ends with the line on which `mark` (at most 64 bytes) stands first.
Measured text_until(Reader& content, std::string_view mark);

// Without spaces around it, fit to be shown.
std::string trimmed(std::string text);

// What stands first between these two, within the first 64 KiB and on one line, trimmed.
std::string between(Reader& content, std::string_view open, std::string_view close, std::uint64_t length);

// The formats of the files of these names, which are one family: text of one may well be called text of another.
std::vector<Format> markup_formats();
std::vector<Format> rtf_formats();
std::vector<Format> card_formats();
std::vector<Format> mail_formats();
std::vector<Format> json_formats();

}  // namespace dredger::formats

// Names as media store them, to UTF-8, and what comparing them needs.
#pragma once

#include <cstddef>
#include <span>
#include <string>
#include <string_view>

namespace dredger {

// The code pages in which short FAT names were written most often, and the one of Windows without Unicode.
enum class CodePage { cp437, cp850, windows1252 };

// Unpaired surrogates become U+FFFD.
std::string utf16_to_utf8(std::u16string_view text);

// The same from little-endian bytes; an odd byte at the end is left out.
std::string utf16le_to_utf8(std::span<const std::byte> text);

// Every byte has a character in all code pages; control characters stay what they are.
std::string code_page_to_utf8(std::span<const std::byte> text, CodePage page);

// Upper and lower case made equal (Unicode case folding), for comparing names as Windows and macOS do.
std::string folded(std::string_view utf8);

// Letters and their marks put together where Unicode has one character for both (NFC). What is not UTF-8 comes as
// U+FFFD.
std::string composed(std::string_view utf8);

// "FOLDER/NAME", or the name alone where the folder is the root.
std::string joined(std::string_view folder, std::string_view name);

// What joined() made: the folder, empty for the root, and the name. They point into `path`.
struct SplitPath {
    std::string_view folder, name;
};
SplitPath split_path(std::string_view path);

// Two hexadecimal digits behind a percent sign become the byte that they stand for (RFC 2396, 2.4.1).
std::string percent_decoded(std::string_view text);

// The text after the last point of a file name, in lower case; empty where there is none.
std::string extension_of(std::string_view name);

// "terns (2).csv"
std::string numbered_name(const std::string& name, unsigned number);

// Bytes that are not UTF-8 become U+FFFD.
std::string valid_utf8(std::string_view text);

// Bytes that are not UTF-8 and control characters become U+FFFD, so that no name can steer a terminal.
std::string printable(std::string_view text);

// Two digits a byte, in small letters.
std::string hexadecimal(std::span<const std::byte> bytes);

// "0f3a9c52-..." of the 16 bytes of a UUID in the order in which they are written (RFC 4122).
std::string uuid_text(std::span<const std::byte, 16> uuid);

}  // namespace dredger

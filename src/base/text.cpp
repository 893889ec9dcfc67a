#include "base/text.h"

#include <algorithm>
#include <array>
#include <unicode/normalizer2.h>
#include <unicode/uchar.h>
#include <unicode/ucnv.h>
#include <unicode/unistr.h>

namespace dredger {
namespace {

using Alphabet = std::array<std::string, 256>;

Alphabet read_alphabet(const char* converter) {
    Alphabet alphabet;
    for (std::size_t code = 0; code < alphabet.size(); ++code) {
        const char byte = static_cast<char>(code);
        if (code < 0x80)
            alphabet[code] = std::string(1, byte);
        else
            icu::UnicodeString(&byte, 1, converter).toUTF8String(alphabet[code]);
    }
    return alphabet;
}

const Alphabet& alphabet_of(CodePage page) {
    static const Alphabet cp437 = read_alphabet("ibm-437");
    static const Alphabet cp850 = read_alphabet("ibm-850");
    static const Alphabet windows1252 = read_alphabet("windows-1252");
    return page == CodePage::cp437 ? cp437 : page == CodePage::cp850 ? cp850 : windows1252;
}

icu::StringPiece piece(std::string_view text) { return {text.data(), static_cast<int32_t>(text.size())}; }

}  // namespace

std::string utf16_to_utf8(std::u16string_view text) {
    std::string out;
    icu::UnicodeString(text.data(), static_cast<int32_t>(text.size())).toUTF8String(out);
    return out;
}

std::string utf16le_to_utf8(std::span<const std::byte> text) {
    bool is_ascii = true;
    for (std::size_t i = 0; i + 1 < text.size() && is_ascii; i += 2)
        is_ascii = text[i + 1] == std::byte{0} && text[i] < std::byte{0x80};
    if (is_ascii) {
        std::string plain;
        plain.reserve(text.size() / 2);
        for (std::size_t i = 0; i + 1 < text.size(); i += 2) plain += static_cast<char>(text[i]);
        return plain;
    }
    std::u16string units;
    units.reserve(text.size() / 2);
    for (std::size_t i = 0; i + 1 < text.size(); i += 2)
        units +=
            static_cast<char16_t>(std::to_integer<unsigned>(text[i]) | std::to_integer<unsigned>(text[i + 1]) << 8U);
    return utf16_to_utf8(units);
}

std::string code_page_to_utf8(std::span<const std::byte> text, CodePage page) {
    const Alphabet& alphabet = alphabet_of(page);
    std::string out;
    for (const std::byte b : text) out += alphabet[std::to_integer<std::size_t>(b)];
    return out;
}

std::string composed(std::string_view utf8) {
    const bool is_ascii =
        std::all_of(utf8.begin(), utf8.end(), [](char c) { return static_cast<signed char>(c) >= 0; });
    if (is_ascii) return std::string(utf8);
    UErrorCode status = U_ZERO_ERROR;
    const icu::Normalizer2* normalizer = icu::Normalizer2::getNFCInstance(status);
    const icu::UnicodeString text = icu::UnicodeString::fromUTF8(piece(utf8));
    const icu::UnicodeString whole = U_SUCCESS(status) ? normalizer->normalize(text, status) : text;
    std::string out;
    (U_SUCCESS(status) ? whole : text).toUTF8String(out);
    return out;
}

std::string folded(std::string_view utf8) {
    std::string out;
    if (std::all_of(utf8.begin(), utf8.end(), [](char c) { return static_cast<signed char>(c) >= 0; })) {
        for (const char c : utf8) out += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
        return out;
    }
    icu::UnicodeString::fromUTF8(piece(utf8)).foldCase().toUTF8String(out);
    return out;
}

std::string joined(std::string_view folder, std::string_view name) {
    std::string path(folder);
    if (!path.empty()) path += '/';
    return path += name;
}

SplitPath split_path(std::string_view path) {
    const std::size_t slash = path.rfind('/');
    if (slash == std::string_view::npos) return {{}, path};
    return {path.substr(0, slash), path.substr(slash + 1)};
}

std::string percent_decoded(std::string_view text) {
    const auto digit = [](char c) {
        return c >= '0' && c <= '9' ? c - '0' : (c | 0x20) >= 'a' && (c | 0x20) <= 'f' ? (c | 0x20) - 'a' + 10 : -1;
    };
    std::string plain;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '%' && i + 2 < text.size() && digit(text[i + 1]) >= 0 && digit(text[i + 2]) >= 0) {
            plain += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
            i += 2;
        } else {
            plain += text[i];
        }
    }
    return plain;
}

std::string numbered_name(const std::string& name, unsigned number) {
    const std::size_t dot = name.rfind('.');
    const std::size_t stem = dot == std::string::npos || dot == 0 ? name.size() : dot;
    return name.substr(0, stem) + " (" + std::to_string(number) + ")" + name.substr(stem);
}

std::string extension_of(std::string_view name) {
    const auto point = name.rfind('.');
    if (point == std::string_view::npos || point == 0) return {};
    return folded(name.substr(point + 1));
}

std::string valid_utf8(std::string_view text) {
    if (std::all_of(text.begin(), text.end(), [](char c) { return static_cast<signed char>(c) >= 0; }))
        return std::string(text);
    std::string utf8;
    icu::UnicodeString::fromUTF8(piece(text)).toUTF8String(utf8);
    return utf8;
}

std::string printable(std::string_view text) {
    if (std::all_of(text.begin(), text.end(), [](char c) { return c >= 0x20 && c < 0x7F; })) return std::string(text);
    const auto decoded = icu::UnicodeString::fromUTF8(piece(text));
    icu::UnicodeString out;
    for (int32_t at = 0; at < decoded.length(); at = decoded.moveIndex32(at, 1)) {
        const UChar32 c = decoded.char32At(at);
        const auto type = u_charType(c);
        // Joiners are format characters too, but names in Indic scripts and emoji need them.
        const bool joiner = c == 0x200C || c == 0x200D;
        const bool hidden = type == U_CONTROL_CHAR || type == U_FORMAT_CHAR || c == 0x2028 || c == 0x2029;
        out.append(hidden && !joiner ? UChar32{0xFFFD} : c);
    }
    std::string utf8;
    out.toUTF8String(utf8);
    return utf8;
}

std::string hexadecimal(std::span<const std::byte> bytes) {
    constexpr std::string_view kDigits = "0123456789abcdef";
    std::string text;
    text.reserve(bytes.size() * 2);
    for (const std::byte b : bytes) {
        text += kDigits[std::to_integer<unsigned>(b >> 4)];
        text += kDigits[std::to_integer<unsigned>(b & std::byte{15})];
    }
    return text;
}

std::string uuid_text(std::span<const std::byte, 16> uuid) {
    std::string text = hexadecimal(uuid);
    for (const std::size_t at : {20U, 16U, 12U, 8U}) text.insert(at, 1, '-');
    return text;
}

}  // namespace dredger

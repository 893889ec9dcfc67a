#include "formats/characters.h"

#include <algorithm>
#include <charconv>

#include "base/text.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kMaxTextFile = std::uint64_t{1} << 32;  // bytes; an MBOX can be long

}  // namespace

std::uint64_t end_of_characters(Reader& content, std::uint64_t at) {
    const std::uint64_t limit = std::min(content.size(), kMaxTextFile);
    while (at < limit) {
        const auto here = content.some(at);
        if (here.empty()) break;
        const auto found = std::find_if(here.begin(), here.end(), is_control);
        at += static_cast<std::uint64_t>(found - here.begin());
        if (found != here.end()) break;
    }
    return std::min(at, limit);
}

bool ends_like_a_file(Reader& content, std::uint64_t end) {
    constexpr std::uint64_t kSector = 512;
    const std::uint64_t filled = std::min((end + kSector - 1) / kSector * kSector, content.size());
    return end % kSector != 0 && filled > end && content.is_zeros(end, filled);
}

std::uint64_t behind_line_end(Reader& content, std::uint64_t at) {
    if (content.has(at, "\r")) ++at;
    return content.has(at, "\n") ? at + 1 : at;
}

std::optional<std::uint64_t> number_in(std::string_view text) {
    while (!text.empty() && is_space(static_cast<unsigned char>(text.front()))) text.remove_prefix(1);
    std::uint64_t value = 0;
    const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
    return read.ec == std::errc() ? std::optional(value) : std::nullopt;
}

Measured text_until(Reader& content, std::string_view mark) {
    const std::uint64_t limit = end_of_characters(content, 0);
    const auto end = content.find(mark, 0, limit);
    return end ? whole(behind_line_end(content, *end + mark.size()), Proof::chain)
               : broken(limit, "its last line is missing");
}

bool begins_with(ByteView head, std::string_view word) {
    std::size_t at = head.has(0, "\xEF\xBB\xBF") ? 3 : 0;
    while (at < head.size() && is_space(std::to_integer<unsigned>(head.bytes()[at]))) ++at;
    if (head.size() - at < word.size()) return false;
    for (std::size_t i = 0; i < word.size(); ++i)
        if (folded_letter(std::to_integer<unsigned>(head.bytes()[at + i])) != static_cast<unsigned char>(word[i]))
            return false;
    return true;
}

std::string trimmed(std::string text) {
    while (!text.empty() && is_space(static_cast<unsigned char>(text.front()))) text.erase(0, 1);
    while (!text.empty() && is_space(static_cast<unsigned char>(text.back()))) text.pop_back();
    return printable(text);
}

std::string between(Reader& content, std::string_view open, std::string_view close, std::uint64_t length) {
    const auto start = content.find(open, 0, std::min<std::uint64_t>(length, 65536));
    if (!start) return {};
    const std::string text = content.text(*start + open.size(), 200);
    const std::size_t end = text.find(close);
    if (end == std::string::npos) return {};
    return trimmed(text.substr(0, end));
}

}  // namespace dredger::formats

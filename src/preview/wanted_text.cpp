#include "preview/wanted_text.h"

#include <algorithm>
#include <unicode/uniset.h>
#include <unicode/unistr.h>

namespace dredger::preview {
namespace {

std::string utf16le(const icu::UnicodeString& text) {
    std::string bytes;
    for (int i = 0; i < text.length(); ++i) {
        bytes += static_cast<char>(text[i] & 0xFF);
        bytes += static_cast<char>(text[i] >> 8);
    }
    return bytes;
}

}  // namespace

WantedText::WantedText(std::string_view utf8) {
    const auto text = icu::UnicodeString::fromUTF8(icu::StringPiece(utf8.data(), static_cast<int>(utf8.size())));
    for (int at = 0; at < text.length(); at = text.moveIndex32(at, 1)) {
        const UChar32 character = text.char32At(at);
        icu::UnicodeSet alike(character, character);
        alike.closeOver(USET_CASE_INSENSITIVE);
        auto& narrow = narrow_.emplace_back();
        auto& wide = wide_.emplace_back();
        std::size_t longest = 0;
        for (int i = 0; i < alike.getRangeCount(); ++i)
            for (UChar32 one = alike.getRangeStart(i); one <= alike.getRangeEnd(i); ++one) {
                const icu::UnicodeString written(one);
                written.toUTF8String(narrow.emplace_back());
                wide.push_back(utf16le(written));
                longest = std::max({longest, narrow.back().size(), wide.back().size()});
            }
        longest_ += longest;
    }
    for (const Pattern* pattern : {&narrow_, &wide_})
        for (const std::string& first : pattern->front()) begins_[static_cast<unsigned char>(first.front())] = true;
}

std::size_t WantedText::length_at(std::string_view bytes, const Pattern& pattern) {
    const std::size_t all = bytes.size();
    for (const auto& ways : pattern) {
        const auto way =
            std::find_if(ways.begin(), ways.end(), [&](const std::string& w) { return bytes.starts_with(w); });
        if (way == ways.end()) return 0;
        bytes.remove_prefix(way->size());
    }
    return all - bytes.size();
}

std::optional<WantedText::Place> WantedText::find_in(std::string_view bytes) const {
    for (std::size_t at = 0; at < bytes.size(); ++at) {
        if (!begins_[static_cast<unsigned char>(bytes[at])]) continue;
        const std::string_view here = bytes.substr(at);
        if (const std::size_t narrow = length_at(here, narrow_); narrow > 0) return Place{at, narrow, false};
        if (const std::size_t wide = length_at(here, wide_); wide > 0) return Place{at, wide, true};
    }
    return std::nullopt;
}

}  // namespace dredger::preview

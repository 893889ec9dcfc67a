#include "formats/sound_tags.h"

#include <algorithm>

namespace dredger::formats {
namespace {

constexpr std::string_view kApe = "APETAGEX";
constexpr std::uint64_t kFooter = 32;  // bytes, of a header as well
constexpr std::uint64_t kMaxTag = 1 << 20;

// Items with a footer, with or without a header before them; 0: there is no such tag.
std::uint64_t ape_length(Reader& content, std::uint64_t at) {
    constexpr std::uint32_t kIsHeader = 0x20000000;
    const std::uint64_t size = content.has(at, kApe) ? content.u32le(at + 12) : 0;
    if (size >= kFooter && content.holds(at, size + kFooter) && (content.u32le(at + 20) & kIsHeader) != 0)
        return size + kFooter;
    // Without a header: the last frame may seem to reach into it.
    constexpr std::uint64_t kNear = 16 << 10, kFrame = 4096;
    const bool is_item =
        content.holds(at, 16) && content.u32le(at) < kMaxTag && content.u32le(at + 4) < 8 && content.u8(at + 8) >= 0x20;
    const auto footer = content.find(kApe, at, std::min(content.size(), at + (is_item ? kMaxTag : kNear)));
    if (!footer || !content.holds(*footer, kFooter)) return 0;
    const std::uint64_t end = *footer + kFooter, tag = content.u32le(*footer + 12);
    return tag >= end - at && tag <= end - at + kFrame ? end - at : 0;
}

}  // namespace

std::uint64_t behind_sound_tags(Reader& content, std::uint64_t at) {
    at += ape_length(content, at);
    if (content.has(at, "LYRICSBEGIN"))
        if (const auto end = content.find("LYRICS200", at, at + 65536)) at = *end + 9;
    if (content.has(at, "TAG") && content.holds(at, 128)) at += 128;
    return at;
}

}  // namespace dredger::formats

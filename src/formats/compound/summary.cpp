#include "formats/compound/known_streams.h"
#include "formats/format.h"
#include "media/text_medium.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kSector = 512;

// A small picture of the document, as on a clipboard of Windows ([MS-OLEPS] 2.11).
void look_at_preview(const Look& look, std::uint64_t at) {
    constexpr std::uint32_t kOfWindows = 0xFFFFFFFF, kMetafile = 3, kEnhanced = 14;
    constexpr std::uint64_t kHead = 12, kSizes = 8, kMost = 4 << 20;
    const BlockStream& stream = look.stream();
    const std::uint64_t end = at + 4 + stream.u32(at);
    const std::uint32_t kind = stream.u32(at + 8);
    if (stream.u32(at + 4) != kOfWindows || (kind != kMetafile && kind != kEnhanced)) return;
    const std::uint64_t from = at + kHead + (kind == kMetafile ? kSizes : 0);
    if (from + kSector > end || end > stream.there() || end - from > kMost) return;
    const TextMedium bytes(stream.text(from, end - from), "preview");
    Budget budget(Budget::Limits(), [&stream] { return !stream.ok(); });
    Reader content(bytes, budget);
    const Measured found = measure(*format_named(kind == kMetafile ? "wmf" : "emf"), content);
    const std::uint64_t reached = found.is_file() ? found.length : 0;
    const bool is_wrong = found.end == Measured::End::broken && reached + kSector < end - from;
    look.expect(from + std::min(reached, end - from - 1), !is_wrong);
}

}  // namespace

// Property sets ([MS-OLEPS] 2.21, 2.20, 2.15).
void look_at_summary(const Look& look) {
    constexpr std::uint32_t kPreview = 17, kClipboard = 0x47;
    constexpr std::uint32_t kMaxProperties = 1024, kMaxType = 0x3FFF;
    const BlockStream& stream = look.stream();
    // Some write nothing but the beginning of one.
    constexpr std::uint64_t kLeast = 48;
    if (stream.size() < kLeast) return;
    const std::uint32_t sets = stream.u32(24);
    if (!look.expect(0, stream.u16(0) == 0xFFFE && stream.u16(2) <= 1 && (sets == 1 || sets == 2))) return;
    for (std::uint32_t set = 0; set < sets; ++set) {
        const std::uint32_t at = stream.u32(44 + 20 * set);
        const std::uint32_t size = stream.u32(at), count = stream.u32(std::uint64_t{at} + 4);
        if (!look.expect(at, at < stream.size() && size >= 8 && count <= kMaxProperties)) return;
        for (std::uint32_t n = 0; n < count && stream.ok(); ++n) {
            const std::uint64_t entry = std::uint64_t{at} + 8 + 8 * std::uint64_t{n};
            const std::uint32_t id = stream.u32(entry), value = stream.u32(entry + 4);
            if (!look.expect(entry, std::uint64_t{at} + value < stream.size() + kSector)) return;
            // That of names has no type, nor do those that anybody adds.
            if (id == 0 || set > 0) continue;
            const std::uint32_t type = stream.u32(std::uint64_t{at} + value);
            if (id == kPreview && type == kClipboard) look_at_preview(look, std::uint64_t{at} + value + 4);
            if (!look.expect(std::uint64_t{at} + value, type <= kMaxType)) return;
        }
    }
}

}  // namespace dredger::formats

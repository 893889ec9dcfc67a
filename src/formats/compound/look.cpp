#include "formats/compound/look.h"

#include "formats/format.h"
#include "media/text_medium.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kSector = 512;

}  // namespace

void look_at_content(const Look& look, std::uint64_t at, std::uint64_t length) {
    constexpr std::uint64_t kMost = 16 << 20, kLeast = kSector;
    const BlockStream& stream = look.stream();
    if (length < kLeast || length > kMost || at + length > stream.there()) return;
    TextMedium bytes(stream.text(at, length), "stream");
    std::vector<std::byte> head(static_cast<std::size_t>(std::min<std::uint64_t>(length, Reader::kWindow)));
    if (!bytes.read(0, head)) return;
    const Format* format = format_with_head(ByteView(head));
    const Format* measurer = format == nullptr ? nullptr : measurer_of(*format);
    // Only those of which damage shows wherever it is, and none that may hold documents again.
    if (measurer == nullptr || (measurer->name != "jpeg" && measurer->name != "png" && measurer->name != "gif")) return;
    Budget budget(Budget::Limits(), [&stream] { return !stream.ok(); });
    Reader content(bytes, budget);
    const Measured found = measure(*measurer, content);
    if (!found.is_file() || found.proof < Proof::structure) return;
    look.expect(at + std::min(found.sure, length - 1), true);
    // That its last mark is missing is nothing that foreign sectors do.
    if (found.end == Measured::End::broken && found.length + kSector < length) look.expect(at + found.length, false);
}

// A few that can't be in one may be there all the same; many in a sector are not.
void look_at_text(const Look& look, std::uint64_t from, std::uint64_t to, bool is_wide, std::uint32_t allowed) {
    constexpr unsigned kMostStrange = 3;
    const BlockStream& stream = look.stream();
    const std::uint64_t end = std::min(to, stream.there());
    const unsigned step = is_wide ? 2 : 1;
    for (std::uint64_t at = from; at + step <= end && stream.ok();) {
        const std::uint64_t sector_end = std::min(end, (at / kSector + 1) * kSector);
        const std::uint64_t start = at;
        unsigned strange = 0;
        bool is_high = false;
        for (; at + step <= std::max(sector_end, start + step) && at + step <= end; at += step) {
            const unsigned c = is_wide ? stream.u16(at) : stream.u8(at);
            const bool is_low = is_wide && c >= 0xDC00 && c < 0xE000;
            if ((c < 0x20 && (allowed >> c & 1U) == 0) || is_low != is_high || c >= 0xFFFE) ++strange;
            is_high = is_wide && c >= 0xD800 && c < 0xDC00;
        }
        if (!look.expect(start, strange <= kMostStrange)) return;
    }
}

std::string BlockStream::text(std::uint64_t at, std::uint64_t length) const {
    std::string text;
    const std::uint64_t end = std::min(at + length, there());
    while (at < end && ok()) {
        const std::uint64_t here = std::min(end - at, block_ - at % block_);
        const std::string part = content_->text(place_of(at), static_cast<std::size_t>(here));
        if (part.empty()) break;
        text += part;
        at += part.size();
    }
    return text;
}

}  // namespace dredger::formats

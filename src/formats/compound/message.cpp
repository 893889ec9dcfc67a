#include <set>

#include "formats/compound/known_streams.h"

namespace dredger::formats {

// The properties of a message, or of what lies within one ([MS-OXMSG] 2.4).
void look_at_properties(const Look& look, bool is_message) {
    constexpr std::uint64_t kEntry = 16, kHeaderOfMessage = 32, kHeader = 8, kHeaderOfInner = 24;
    static const std::set<unsigned> kTypes = {0x00, 0x01, 0x02, 0x03, 0x04, 0x05, 0x06, 0x07, 0x0A, 0x0B,
                                              0x0D, 0x14, 0x1E, 0x1F, 0x40, 0x48, 0xFB, 0xFD, 0xFE, 0x102};
    constexpr unsigned kSeveral = 0x1000, kMostFlags = 0xF;
    const BlockStream& stream = look.stream();
    std::uint64_t at = is_message ? kHeaderOfMessage : kHeader;
    if (!is_message && stream.size() % kEntry == kHeaderOfInner % kEntry && stream.size() >= kHeaderOfInner)
        at = stream.u16(kHeader) == 0 && stream.u16(kHeader + 2) == 0 ? kHeaderOfInner : kHeader;
    for (; at + kEntry <= stream.there() && stream.ok(); at += kEntry)
        if (!look.expect(at, kTypes.contains(stream.u16(at) & ~kSeveral) && stream.u32(at + 4) <= kMostFlags)) return;
}

// Texts of a message by the type in their names, and what is attached to it.
void look_at_message_part(const Look& look, std::string_view name) {
    constexpr std::uint32_t kAllowed = 1U << 9 | 1U << 10 | 1U << 13 | 1U << 11 | 1U << 12 | 1U;
    constexpr std::string_view kPackedRtf = "10090102", kAttached = "37010102";
    const BlockStream& stream = look.stream();
    const std::string_view tag = name.substr(name.find_last_of('_') + 1);
    if (tag.ends_with("001F")) look_at_text(look, 0, stream.size(), true, kAllowed);
    if (tag.ends_with("001E")) look_at_text(look, 0, stream.size(), false, kAllowed);
    if (tag == kPackedRtf && stream.size() >= 16)
        look.expect(0, stream.u32(8) == 0x75465A4C || stream.u32(8) == 0x414C454D);
    if (tag == kAttached) look_at_content(look, 0, stream.size());
}

}  // namespace dredger::formats

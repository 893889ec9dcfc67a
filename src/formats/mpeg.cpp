// MPEG transport and program streams (ISO/IEC 13818-1, ISO/IEC 11172-1), also with the time stamps of M2TS.
#include <algorithm>
#include <array>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr unsigned kLeastPackets = 24;

// Where packets begin within their cells: M2TS has four bytes of time before each.
struct Cells {
    std::uint64_t size;
    std::uint64_t lead;
};
constexpr Cells kPlain{188, 0};
constexpr Cells kTimed{192, 4};

unsigned bid_for_packets(ByteView head, const Cells& cells) {
    // A file begins with the tables that tell what is in the stream; the middle of one seldom does.
    bool has_tables = false;
    for (std::size_t i = 0; i < 5; ++i) {
        const std::size_t at = i * cells.size + cells.lead;
        if (at + 4 > head.size()) return i >= 2 && has_tables ? 24 : 0;
        const auto byte = [&](std::size_t n) { return std::to_integer<unsigned>(head.bytes()[at + n]); };
        if (byte(0) != 0x47 || (byte(1) & 0x80U) != 0 || (byte(3) & 0x30U) == 0) return 0;
        const unsigned pid = (byte(1) & 0x1FU) << 8 | byte(2);
        if (i < 3 && (pid == 0 || pid == 0x11) && (byte(1) & 0x40U) != 0) has_tables = true;
    }
    return has_tables ? 40 : 0;
}

Measured walk_packets(Reader& content, const Cells& cells) {
    std::array<std::int8_t, 8192> counters;
    counters.fill(-1);
    std::uint64_t at = 0;
    unsigned breaks = 0;
    for (; content.holds(at, cells.size) && content.u8(at + cells.lead) == 0x47; at += cells.size) {
        const std::uint64_t packet = at + cells.lead;
        const unsigned pid = content.u16be(packet + 1) & 0x1FFFU;
        const unsigned control = content.u8(packet + 3);
        if ((control & 0x30U) == 0) break;
        const auto counter = static_cast<std::int8_t>(control & 15U);
        if ((control & 0x10U) != 0 && pid != 0x1FFF) {
            const std::int8_t before = counters[pid];
            if (before >= 0 && counter != before && counter != (before + 1) % 16) ++breaks;
            counters[pid] = counter;
        }
    }
    const std::uint64_t packets = at / cells.size;
    if (packets < kLeastPackets || breaks > packets / 4) return nonsense();
    return open_ended(at, Proof::structure);
}

unsigned bid_ts(ByteView head) { return bid_for_packets(head, kPlain); }
unsigned bid_m2ts(ByteView head) { return bid_for_packets(head, kTimed); }
Measured measure_ts(Reader& content) { return walk_packets(content, kPlain); }
Measured measure_m2ts(Reader& content) { return walk_packets(content, kTimed); }

// A pack header, then what describes the system: so a file begins, not the middle of one.
unsigned bid_ps(ByteView head) {
    if (!head.has(0, "\0\0\1\xBA"sv) || head.size() < 18) return 0;
    const auto byte = [&](std::size_t n) { return std::to_integer<unsigned>(head.bytes()[n]); };
    const std::size_t next = (byte(4) & 0xC0U) == 0x40 ? 14 + (byte(13) & 7U) : 12;
    return head.has(next, "\0\0\1\xBB"sv) ? 64 : 0;
}

Measured measure_ps(Reader& content) {
    constexpr std::uint64_t kMaxFilling = 256;  // zeros between packets
    std::uint64_t at = 0;
    std::uint64_t last_pack = 0;
    std::uint64_t pack_size = 0;  // the same throughout, or 0
    unsigned packets = 0;
    bool same_size = true;
    for (;;) {
        std::uint64_t next = at;
        while (next < at + kMaxFilling && content.holds(next, 4) && content.u24be(next) == 0) ++next;
        if (!content.has(next, "\0\0\1"sv) || !content.holds(next, 4)) break;
        const unsigned id = content.u8(next + 3);
        if (id == 0xB9) return whole(next + 4, Proof::chain);
        std::uint64_t length = 0;
        if (!content.holds(next, 6)) break;
        if (id == 0xBA)
            length = (content.u8(next + 4) & 0xC0U) == 0x40 ? 14 + (content.u8(next + 13) & 7U) : 12;
        else if (id >= 0xBB)
            length = 6 + std::uint64_t{content.u16be(next + 4)};
        else
            break;
        if (!content.holds(next, length)) break;
        if (id == 0xBA && next > 0) {
            same_size = same_size && (pack_size == 0 || pack_size == next - last_pack);
            pack_size = next - last_pack;
            last_pack = next;
        }
        at = next + length;
        ++packets;
    }
    if (packets < kLeastPackets) return nonsense();
    // Packs of one size are filled up, the last one too.
    const std::uint64_t filled = last_pack + pack_size;
    if (same_size && filled > at && content.holds(0, filled) && content.is_zeros(at, filled)) at = filled;
    return open_ended(at, Proof::structure);
}

}  // namespace

const std::vector<Format>& mpeg() {
    static const std::vector<Format> family = {
        {.name = "mpg",
         .kind = Kind::video,
         .extensions = {"mpg", "mpeg", "vob"},
         .signatures = {{{0, "\0\0\1\xBA"sv}}, {{0, "\0\0\1\xB3"sv}}},
         .bid = bid_ps,
         .measure = measure_ps,
         .ending = "the end code, or the last packet",
         .checked = "the chain of packets"},
        {.name = "ts",
         .kind = Kind::video,
         .extensions = {"ts"},
         .signatures = {{{0, "\x47"sv}, {188, "\x47"sv}, {376, "\x47"sv}}},
         .bid = bid_ts,
         .measure = measure_ts,
         .ending = "the last packet",
         .checked = "the chain of packets and their counters"},
        {.name = "mts",
         .kind = Kind::video,
         .extensions = {"mts", "m2ts"},
         .signatures = {{{4, "\x47"sv}, {196, "\x47"sv}, {388, "\x47"sv}}},
         .bid = bid_m2ts,
         .measure = measure_m2ts,
         .ending = "the last packet",
         .checked = "the chain of packets and their counters"},
    };
    return family;
}

}  // namespace dredger::formats

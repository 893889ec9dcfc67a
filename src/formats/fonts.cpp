// Fonts: OpenType (ISO/IEC 14496-22, "Organization of an OpenType font") and WOFF (W3C, WOFF File Format 1.0 and 2.0).
#include <algorithm>
#include <bit>

#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr unsigned kMostTables = 128;

// What the directory says of a table; offsets and lengths in bytes.
struct Table {
    std::uint64_t at = 0;
    std::uint64_t length = 0;       // as it is stored
    std::uint64_t full_length = 0;  // unpacked; the same where it is not packed
    std::uint32_t sum = 0;          // of the big-endian words that it has when it is unpacked
    bool is_head = false;           // whose sum takes no account of the sum of the whole font, which stands in it
    std::uint64_t end() const { return at + length; }
    bool is_packed() const { return length < full_length; }
    // Hardly anything else looks like it.
    bool is_telling() const { return !is_head && sum != 0 && length >= 16; }
};

std::uint32_t sum_of(Reader& content, std::uint64_t at, std::uint64_t length) {
    std::uint32_t sum = 0;
    for (std::uint64_t done = 0; done < length;) {
        const auto bytes = content.some(at + done);
        const auto here = bytes.first(static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), length - done)));
        if (here.empty()) break;
        for (const std::byte byte : here) sum += std::to_integer<std::uint32_t>(byte) << (24 - 8 * (done++ % 4));
    }
    return sum;
}

// Whether the table stands at `at`.
bool stands(Reader& content, const Table& table, std::uint64_t at) {
    if (!content.holds(at, table.length)) return false;
    if (!table.is_packed()) return table.is_head || sum_of(content, at, table.length) == table.sum;
    if ((content.u8(at) & 0x0FU) != 8 || content.u16be(at) % 31 != 0) return false;  // RFC 1950
    const Unpacked made = unpack(content, Packing::zlib, at, table.length);
    return made.ended() && made.bytes == table.full_length;
}

// The tables in the order in which they lie; none where the directory makes no sense.
std::vector<Table> tables_of_opentype(Reader& content) {
    constexpr std::uint64_t kMostLength = 64 << 20;
    const unsigned count = content.u16be(4);
    if (count < 4 || count > kMostTables) return {};
    const std::uint64_t directory_end = 12 + 16 * std::uint64_t{count};
    std::vector<Table> tables;
    for (std::uint64_t entry = 12; entry < directory_end; entry += 16) {
        const std::uint64_t length = content.u32be(entry + 12);
        tables.push_back(
            {content.u32be(entry + 8), length, length, content.u32be(entry + 4), content.has(entry, "head")});
        if (tables.back().at < directory_end || length > kMostLength) return {};
    }
    std::stable_sort(tables.begin(), tables.end(), [](const Table& a, const Table& b) { return a.at < b.at; });
    return tables;
}

std::vector<Table> tables_of_woff(Reader& content) {
    const std::uint64_t end = content.u32be(8);
    const unsigned count = content.u16be(12);
    const std::uint64_t directory_end = 44 + 20 * std::uint64_t{count};
    if (end < directory_end || count == 0 || count > kMostTables || content.u16be(14) != 0) return {};
    std::vector<Table> tables;
    for (std::uint64_t entry = 44; entry < directory_end; entry += 20) {
        tables.push_back({content.u32be(entry + 4), content.u32be(entry + 8), content.u32be(entry + 12),
                          content.u32be(entry + 16), content.has(entry, "head")});
        const Table& table = tables.back();
        if (table.at < directory_end || table.end() > end || table.length > table.full_length) return {};
    }
    std::stable_sort(tables.begin(), tables.end(), [](const Table& a, const Table& b) { return a.at < b.at; });
    return tables;
}

// Content of `end` bytes of which these tables tell whether it is right.
Measured measured_by(Reader& content, const std::vector<Table>& tables, std::uint64_t end) {
    const Table* wrong = nullptr;
    std::size_t right = 0, right_behind = 0;
    for (const Table& table : tables) {
        const bool is_right = stands(content, table, table.at);
        if (!is_right && wrong == nullptr) wrong = &table;
        if (!is_right || !table.is_telling()) continue;
        ++(wrong == nullptr ? right : right_behind);
    }
    if (wrong == nullptr && content.holds(0, end)) return whole(end, Proof::checksums);
    if (wrong == nullptr) return broken(content.size(), "its end is missing", end);
    const std::uint64_t until = std::min(content.size(), wrong->end());
    if (right + right_behind == 0) return lone_head(wrong->at, until, "no table has its checksum");
    if (!content.holds(0, end) && wrong->end() > content.size())
        return broken(content.size(), "its end is missing", end);
    Measured found = broken_between(wrong->at, until, "the checksum of a table is off", end);
    found.has_its_end = right_behind > 0 && content.holds(0, end);
    return found;
}

// How much further on than they should be tables behind the trouble stand: the smallest of these is looked for.
std::vector<std::uint64_t> gaps_before_tables(Reader& content, const std::vector<Table>& tables,
                                              const Measured& found) {
    constexpr std::uint64_t kMostLength = 4096, kSector = 512, kReach = 64 << 20;
    constexpr std::size_t kMostGaps = 16;
    const Table* sought = nullptr;
    for (const Table& table : tables)
        if (table.at >= found.length && table.is_telling() && table.length <= kMostLength &&
            (sought == nullptr || table.length < sought->length))
            sought = &table;
    std::vector<std::uint64_t> gaps;
    if (sought == nullptr) return gaps;
    for (std::uint64_t gap = kSector; gap <= kReach && gaps.size() < kMostGaps && content.ok(); gap += kSector) {
        if (!content.holds(sought->at + gap, sought->length)) break;
        if (stands(content, *sought, sought->at + gap)) gaps.push_back(gap);
    }
    return gaps;
}

unsigned bid_font(ByteView head) {
    if (head.size() < 28) return 0;
    const bool mark = head.has(0, "\0\1\0\0"sv) || head.has(0, "OTTO") || head.has(0, "true");
    // Tables stand in the order of their names; the first is one of few.
    const bool first = head.has(12, "BASE") || head.has(12, "CFF ") || head.has(12, "DSIG") || head.has(12, "FFTM") ||
                       head.has(12, "GDEF") || head.has(12, "GPOS") || head.has(12, "GSUB") || head.has(12, "LTSH") ||
                       head.has(12, "OS/2") || head.has(12, "COLR") || head.has(12, "CBDT");
    // The numbers that help to look a table up follow from how many there are.
    const auto number = [&](std::size_t at) {
        return std::to_integer<unsigned>(head.bytes()[at]) << 8 | std::to_integer<unsigned>(head.bytes()[at + 1]);
    };
    const unsigned tables = number(4), range = number(6);
    const bool is_counted =
        tables >= 4 && tables <= 128 && range == 16 * std::bit_floor(tables) && number(10) == 16 * tables - range;
    return mark && (first || is_counted) ? 64 : 0;
}

Measured measure_opentype(Reader& content) {
    const std::vector<Table> tables = tables_of_opentype(content);
    if (tables.empty()) return nonsense();
    std::uint64_t end = 0;
    for (const Table& table : tables) end = std::max(end, table.end());
    // Tables are filled up to four bytes, the last one too, mostly.
    const std::uint64_t filled = (end + 3) / 4 * 4;
    if (content.holds(0, filled) && content.is_zeros(end, filled)) end = filled;
    return measured_by(content, tables, end);
}

Measured measure_woff(Reader& content) {
    const std::uint64_t end = content.u32be(8);
    if (!content.has(0, "wOFF")) {  // the second version, which is packed as a whole
        const unsigned tables = content.u16be(12);
        const bool is_one = end >= 44 && tables > 0 && tables <= kMostTables && content.u16be(14) == 0;
        return is_one ? sized(content, end, Proof::length) : nonsense();
    }
    const std::vector<Table> tables = tables_of_woff(content);
    return tables.empty() ? nonsense() : measured_by(content, tables, end);
}

std::vector<std::uint64_t> gaps_in_opentype(Reader& content, const Measured& found) {
    return gaps_before_tables(content, tables_of_opentype(content), found);
}

std::vector<std::uint64_t> gaps_in_woff(Reader& content, const Measured& found) {
    if (!content.has(0, "wOFF")) return {};
    return gaps_before_tables(content, tables_of_woff(content), found);
}

}  // namespace

const std::vector<Format>& fonts() {
    static const std::vector<Format> formats = {
        {.name = "ttf",
         .kind = Kind::other,
         .extensions = {"ttf", "otf"},
         .signatures = {{{0, "\0\1\0\0\0"sv}}, {{0, "OTTO"sv}}, {{0, "true"sv}}},
         .bid = bid_font,
         .measure = measure_opentype,
         .gaps = gaps_in_opentype,
         .ending = "the furthest table",
         .checked = "the checksum of every table"},
        {.name = "woff",
         .kind = Kind::other,
         .extensions = {"woff", "woff2"},
         .signatures = {{{0, "wOFF"sv}}, {{0, "wOF2"sv}}},
         .measure = measure_woff,
         .gaps = gaps_in_woff,
         .ending = "the length in its header",
         .checked = "every table of the first version, unpacked; of the second the header"},
    };
    return formats;
}

}  // namespace dredger::formats

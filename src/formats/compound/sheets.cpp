#include <set>

#include "formats/compound/known_streams.h"

namespace dredger::formats {

// Sheets: records of a type and a length in two bytes each; those of a sheet stand between a beginning and an end, and
// the list of sheets tells where each begins ([MS-XLS] 2.1.4, 2.1.7.20, 2.4.28).
void look_at_sheets(const Look& look) {
    constexpr unsigned kMostOfOne = 8224, kMostOfEmpty = 16, kMostEmpty = 4, kMaxType = 0x10FF, kBegin = 0x0809,
                       kEnd = 0x000A, kSheet = 0x0085;
    const BlockStream& stream = look.stream();
    std::set<std::uint64_t> begins;
    std::vector<std::uint64_t> sheets;
    unsigned depth = 0, empty_ones = 0;
    std::uint64_t at = 0;
    for (; at + 4 <= stream.there() && stream.ok();) {
        const unsigned type = stream.u16(at), length = stream.u16(at + 2);
        const bool begins_here = (type & 0xFFU) == (kBegin & 0xFFU) && type <= kBegin;
        // Anything may stand behind the last one.
        if (depth == 0 && at > 0 && !begins_here) break;
        // A few programs write empty records.
        empty_ones = type == 0 ? empty_ones + 1 : 0;
        const bool makes_sense = length <= (type == 0 ? kMostOfEmpty : kMostOfOne) && type <= kMaxType;
        if (!look.expect(at, makes_sense && empty_ones <= kMostEmpty && at + 4 + length <= stream.size())) return;
        if (begins_here) {
            begins.insert(at);
            ++depth;
        }
        if (type == kEnd && length == 0 && depth > 0) --depth;
        if (type == kSheet && length >= 6) sheets.push_back(stream.u32(at + 4));
        at += 4 + length;
    }
    for (const std::uint64_t sheet : sheets) look.expect(std::min(sheet, at), begins.contains(sheet));
}

}  // namespace dredger::formats

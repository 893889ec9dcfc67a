#include "formats/compound/drawing_records.h"

#include "formats/unpacking.h"
#include "media/text_medium.h"

namespace dredger::formats {
namespace {

constexpr unsigned kEntryOfStore = 0xF007;  // tells of a picture, and may hold it

// A metafile that is packed ([MS-ODRAW] 2.2.31).
void look_at_metafile(const Look& look, std::uint64_t at, std::uint64_t end) {
    constexpr std::uint64_t kHeader = 34, kMostPacked = 16 << 20;
    const BlockStream& stream = look.stream();
    const std::uint64_t from = at + kHeader;
    const bool is_packed = stream.u8(from - 2) == 0;
    if (!is_packed || from >= end || end - from > kMostPacked || end > stream.there()) return;
    const TextMedium packed(stream.text(from, end - from), "picture");
    Budget budget(Budget::Limits(), [&stream] { return !stream.ok(); });
    Reader reader(packed, budget);
    const Unpacked found = unpack(reader, Packing::zlib, 0, end - from);
    look.expect(from + std::min(found.packed, end - from - 1), found.ended());
}

}  // namespace

bool DrawingRecords::walk(std::uint64_t from, std::uint64_t to) {
    constexpr unsigned kLeastOfSlides = 0x3E8, kMostOfSlides = 0x3000, kPacked = 0x4B50;  // "PK"
    const BlockStream& stream = look_.stream();
    const std::uint64_t limit = std::min(to, stream.size());
    std::vector<std::uint64_t> ends;  // of the records that hold the one at `at`
    for (std::uint64_t at = from; at + kHead <= std::min(to, stream.there()) && stream.ok();) {
        const unsigned first = stream.u16(at), type = stream.u16(at + 2);
        if (first == 0 && type == 0) break;
        const std::uint64_t length = stream.u32(at + 4);
        const bool makes_sense = type >= least_ && (type >= kLeastOfDrawing || type < kMostOfSlides);
        while (!ends.empty() && ends.back() <= at) ends.pop_back();
        const bool fits = at + kHead + length <= (ends.empty() ? limit : ends.back());
        // Some hold what are no records: a packed theme.
        if ((!makes_sense || !fits) && !ends.empty() && first == kPacked && least_ == kLeastOfSlides) {
            at = ends.back();
            continue;
        }
        if (!look_.expect(at, makes_sense && at + kHead + length <= limit)) return false;
        starts_.insert(at);
        const bool holds_others = (first & 0xFU) == 0xF;
        if (holds_others) ends.push_back(at + kHead + length);
        if (!holds_others) look_at_picture(look_, at);
        if (type == kEntryOfStore) {
            constexpr std::uint64_t kPlace = 28, kNowhere = 0xFFFFFFFF;
            if (const std::uint32_t place = stream.u32(at + kHead + kPlace); place != kNowhere)
                kept_elsewhere_.push_back(place);
        }
        at += holds_others ? kHead : kHead + length;
    }
    return true;
}

// With a sum or two in front ([MS-ODRAW] 2.2.23); in an entry of a store behind that.
void DrawingRecords::look_at_picture(const Look& look, std::uint64_t at) {
    constexpr std::uint64_t kSum = 16, kEntry = 36, kLengthOfName = 33;
    constexpr unsigned kFirst = 0xF01A, kLast = 0xF02A, kMacintosh = 0xF01C;
    const BlockStream& stream = look.stream();
    const unsigned instance = stream.u16(at) >> 4, type = stream.u16(at + 2);
    const std::uint64_t length = stream.u32(at + 4), end = at + kHead + length;
    if (type == kEntryOfStore && length > kEntry + kHead) {
        const std::uint64_t within = at + kHead + kEntry + stream.u8(at + kHead + kLengthOfName);
        if (stream.u16(within + 2) != kEntryOfStore) look_at_picture(look, within);
    }
    if (type < kFirst || type > kLast) return;
    const std::uint64_t body = at + kHead + kSum + ((instance & 1U) != 0 ? kSum : 0);
    // Of those of the Macintosh some don't unpack, and are fine.
    if (type < kMacintosh) look_at_metafile(look, body, end);
    if (type > kMacintosh && body + 1 < end) look_at_content(look, body + 1, end - body - 1);
}

}  // namespace dredger::formats

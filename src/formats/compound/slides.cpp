#include "formats/compound/drawing_records.h"
#include "formats/compound/known_streams.h"

namespace dredger::formats {
namespace {

constexpr unsigned kLeastOfSlides = 0x3E8;

// What tells who changed slides last tells that, too ([MS-PPT] 2.3.2).
bool are_encrypted(const BlockStream* current_user) {
    constexpr std::uint64_t kTokenAt = 12;
    constexpr std::uint32_t kEncrypted = 0xF3D1C4DF;
    return current_user != nullptr && current_user->u32(kTokenAt) == kEncrypted;
}

// Those of 1995 have no such records.
bool are_known(const BlockStream& stream) { return stream.there() >= DrawingRecords::kHead && stream.u16(2) != 0; }

// From where the last change begins ([MS-PPT] 2.3.2 to 2.3.6) every one tells where the objects are.
void follow_changes(const Look& look, DrawingRecords& records, std::uint64_t edit) {
    constexpr unsigned kEdit = 0x0FF5, kList = 0x1772, kMaxEdits = 1000;
    constexpr std::uint64_t kHead = DrawingRecords::kHead;
    const BlockStream& stream = look.stream();
    for (unsigned n = 0; n < kMaxEdits && stream.ok(); ++n) {
        if (!look.expect(edit, stream.u16(edit + 2) == kEdit)) return;
        const std::uint32_t list = stream.u32(edit + kHead + 12), before = stream.u32(edit + kHead + 8);
        if (!look.expect(list, stream.u16(std::uint64_t{list} + 2) == kList)) return;
        const std::uint64_t end = std::uint64_t{list} + kHead + stream.u32(std::uint64_t{list} + 4);
        for (std::uint64_t at = std::uint64_t{list} + kHead; at + 4 <= std::min(end, stream.there());) {
            const std::uint32_t count = stream.u32(at) >> 20;
            at += 4;
            for (std::uint32_t i = 0; i < count && at + 4 <= end && stream.ok(); ++i, at += 4) {
                const std::uint32_t object = stream.u32(at);
                // Zeros may fill the room that was left between two changes.
                const std::uint64_t object_end = std::uint64_t{object} + kHead + stream.u32(std::uint64_t{object} + 4);
                if (object == 0 || records.starts().contains(object)) continue;
                if (!look.expect(object, stream.u16(std::uint64_t{object} + 2) >= kLeastOfSlides)) return;
                if (!records.walk(object, object_end)) return;
            }
        }
        if (before == 0 || before >= edit) return;
        edit = before;
    }
}

}  // namespace

void look_at_slides(const Look& look, const BlockStream* user) {
    constexpr std::uint64_t kEditAt = 16;
    if (are_encrypted(user) || !are_known(look.stream())) return;
    DrawingRecords records(look, kLeastOfSlides);
    if (records.walk(0, look.stream().size()) && user != nullptr && !records.starts().empty())
        follow_changes(look, records, user->u32(kEditAt));
}

void look_at_pictures_of_slides(const Look& look, const BlockStream* user) {
    if (!are_encrypted(user) && are_known(look.stream())) DrawingRecords(look).walk(0, look.stream().size());
}

}  // namespace dredger::formats

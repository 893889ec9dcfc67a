// Worlds of block games, in regions ("Anvil file format", as its community describes it): a table of places, and chunks
// of packed data in sectors.
#include <algorithm>

#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kSector = 4096;
constexpr std::uint64_t kChunks = 1024;

Measured measure_region(Reader& content) {
    std::uint64_t end = 2 * kSector;
    unsigned chunks = 0;
    for (std::uint64_t i = 0; i < kChunks; ++i) {
        const std::uint64_t place = content.u24be(4 * i), sectors = content.u8(4 * i + 3);
        if (place == 0 && sectors == 0) continue;
        if (place < 2 || sectors == 0) return nonsense();
        const std::uint64_t at = place * kSector, length = content.u32be(at);
        if (!content.holds(at, sectors * kSector)) {
            end = std::max(end, at + sectors * kSector);
            continue;
        }
        const unsigned packing = content.u8(at + 4);
        if (length < 2 || length + 4 > sectors * kSector || packing < 1 || packing > 4)
            return chunks == 0 ? nonsense() : broken_between(2 * kSector, at, "a chunk makes no sense", end);
        if (packing <= 2 && !unpack(content, packing == 1 ? Packing::gzip : Packing::zlib, at + 5, length - 1).ended())
            return chunks == 0 ? nonsense() : broken_between(2 * kSector, at + 5, "a chunk can't be unpacked", end);
        end = std::max(end, at + sectors * kSector);
        ++chunks;
    }
    if (chunks == 0) return nonsense();
    return content.holds(0, end) ? whole(end, Proof::checksums)
                                 : broken(std::min(content.size(), 2 * kSector), "its end is missing", end);
}

}  // namespace

const std::vector<Format>& regions() {
    static const std::vector<Format> family = {
        {.name = "region",
         .kind = Kind::other,
         .extensions = {"mca", "mcr"},
         .signatures = {{{8196, "\2\x78\x9C"sv}}, {{8196, "\2\x78\xDA"sv}}, {{8196, "\2\x78\x01"sv}}},
         .measure = measure_region,
         .ending = "the last chunk of its table",
         .checked = "every chunk is unpacked"},
    };
    return family;
}

}  // namespace dredger::formats

#include <fmt/format.h>

#include "base/text.h"
#include "filesystems/fat/fat.h"
#include "filesystems/fat/geometry.h"
#include "filesystems/fat/structures.h"

namespace dredger::fat {
namespace {

// The first entry of a table: the media byte, and ones up to the entry's width.
bool is_table(const Medium& medium, std::uint64_t at, const Geometry& geometry, std::uint8_t media) {
    const auto entry = bytes_at(medium, at, 4);
    if (!entry) return false;
    const auto byte = [&](std::size_t i) { return std::to_integer<unsigned>((*entry)[i]); };
    if (byte(0) != media || byte(1) != 0xFF) return false;
    return geometry.width == Width::fat32 ? byte(2) == 0xFF && (byte(3) & 0x0FU) == 0x0F : byte(2) == 0xFF;
}

}  // namespace

// A boot sector may be the first one or, on FAT32, its copy in sector 6; the tables tell.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    if (!there.has(510, "\x55\xAA") || !(there.has(0, "\xEB") || there.has(0, "\xE9"))) return std::nullopt;
    const auto geometry = parse_boot_sector(there, UINT64_MAX);
    const auto media = there.u8(21);
    if (!geometry || !media) return std::nullopt;
    for (const bool is_copy : {false, true}) {
        if (is_copy && geometry->width != Width::fat32) continue;
        const std::uint64_t before = is_copy ? kBackupSector * geometry->sector_size : 0;
        if (at < before) continue;
        unsigned tables = 0;
        for (unsigned n = 0; n < geometry->fat_count; ++n)
            tables += is_table(medium, at - before + geometry->fat_offset + n * geometry->fat_size, *geometry, *media);
        if (tables == 0) continue;
        return VolumeTrace{geometry->name(),
                           printable(geometry->label),
                           at - before,
                           geometry->size,
                           tables,
                           fmt::format("{} and {} agree", is_copy ? "the copy of its boot sector" : "its boot sector",
                                       tables > 1 ? "both of its tables" : "its table"),
                           at};
    }
    return std::nullopt;
}

}  // namespace dredger::fat

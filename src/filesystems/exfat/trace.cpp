#include <fmt/format.h>

#include "filesystems/exfat/exfat.h"
#include "filesystems/exfat/geometry.h"
#include "filesystems/exfat/structures.h"

namespace dredger::exfat {

// A boot sector may be the first one or its copy twelve sectors on; the table tells.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    using namespace std::string_view_literals;
    if (!there.has(3, "EXFAT   ")) return std::nullopt;
    const auto geometry = parse_boot_sector(there, UINT64_MAX);
    if (!geometry) return std::nullopt;
    for (const bool is_copy : {false, true}) {
        const std::uint64_t before = is_copy ? kBootRegionSectors * geometry->sector_size : 0;
        // 4.1.1: the first two entries of the table never change.
        if (at < before || !stands_at(medium, at - before + geometry->fat_offset, "\xF8\xFF\xFF\xFF\xFF\xFF\xFF\xFF"sv))
            continue;
        const bool has_other =
            stands_at(medium, at - before + (is_copy ? 0 : kBootRegionSectors * geometry->sector_size) + 3, "EXFAT   ");
        return VolumeTrace{"exFAT",
                           "",
                           at - before,
                           geometry->size,
                           has_other ? 2U : 1U,
                           fmt::format("{} and its table agree",
                                       is_copy && !has_other ? "the copy of its boot sector" : "its boot sector"),
                           at};
    }
    return std::nullopt;
}

}  // namespace dredger::exfat

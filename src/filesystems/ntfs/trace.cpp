#include <fmt/format.h>

#include "filesystems/ntfs/geometry.h"
#include "filesystems/ntfs/ntfs.h"

namespace dredger::ntfs {

// A boot sector may be the first one or its copy behind the volume's last sector; the records that it points to tell.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    if (!there.has(3, "NTFS    ")) return std::nullopt;
    const auto geometry = parse_boot_sector(there);
    if (!geometry) return std::nullopt;
    std::optional<VolumeTrace> best;
    for (const bool is_copy : {false, true}) {
        if (is_copy && at < geometry->size) continue;
        const std::uint64_t start = is_copy ? at - geometry->size : at;
        const bool has_table = stands_at(medium, start + geometry->mft_cluster * geometry->cluster_size, "FILE");
        const bool has_mirror = stands_at(medium, start + geometry->mirror_cluster * geometry->cluster_size, "FILE");
        const unsigned agreeing = (has_table ? 1 : 0) + (has_mirror ? 1 : 0);
        if (agreeing == 0 || (best && best->agreeing >= agreeing)) continue;
        best = {"NTFS",
                "",
                start,
                geometry->size + geometry->sector_size,
                agreeing,
                fmt::format("{} and {} agree", is_copy ? "the copy of its boot sector" : "its boot sector",
                            has_table && has_mirror ? "both copies of its file table"
                            : has_table             ? "its file table"
                                                    : "the copy of its file table"),
                at};
    }
    return best;
}

}  // namespace dredger::ntfs

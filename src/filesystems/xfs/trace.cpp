#include <fmt/format.h>

#include "base/checked.h"
#include "filesystems/xfs/superblock.h"
#include "filesystems/xfs/xfs.h"

namespace dredger::xfs {

// Each allocation group begins with a superblock, and the free-space header behind it has the group's number.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    const auto geometry = parse_superblock(there);
    if (!geometry) return std::nullopt;
    const auto free_space = bytes_at(medium, at + geometry->sector_size, sizeof(FreeSpaceHeader));
    if (!free_space || !ByteView(*free_space).has(0, "XAGF")) return std::nullopt;
    const std::uint32_t number = ByteView(*free_space).as<FreeSpaceHeader>(0)->agf_seqno;
    if (number >= geometry->groups) return std::nullopt;
    const std::uint64_t before = geometry->offset_in(number, 0);
    if (before > at) return std::nullopt;
    const bool has_first = number == 0 || stands_at(medium, at - before, "XFSB");
    return VolumeTrace{"XFS",
                       geometry->label,
                       at - before,
                       geometry->size(),
                       has_first ? 2U : 1U,
                       fmt::format("the superblock and the free space of its allocation group {} agree", number),
                       at};
}

}  // namespace dredger::xfs

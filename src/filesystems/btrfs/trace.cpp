#include "filesystems/btrfs/btrfs.h"

namespace dredger::btrfs {

// A superblock tells its own place; the others must be where they should be, or the volume too short for them.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    const auto geometry = parse_superblock(there);
    const auto own = there.u64le(offsetof(SuperBlock, bytenr));
    if (!geometry || !own || std::find(std::begin(kMirrors), std::end(kMirrors), *own) == std::end(kMirrors) ||
        *own > at || geometry->total_bytes <= *own)
        return std::nullopt;
    const std::uint64_t start = at - *own;
    const bool is_first = *own == kMirrors[0];
    const std::uint64_t other = is_first ? kMirrors[1] : kMirrors[0];
    const auto mirror = bytes_at(medium, start + other, kSuperBlockSize);
    const auto second = mirror ? parse_superblock(ByteView(*mirror)) : std::nullopt;
    const bool agrees = second && second->fsid == geometry->fsid;
    return VolumeTrace{"Btrfs",
                       geometry->label,
                       start,
                       geometry->total_bytes,
                       agrees ? 2U : 1U,
                       agrees     ? "its superblock and a mirror of it agree"
                       : is_first ? "its superblock tells its own place"
                                  : "a mirror of its superblock tells its own place",
                       at};
}

}  // namespace dredger::btrfs

#include "filesystems/apfs/apfs.h"

namespace dredger::apfs {

// The block at a container's start tells where its checkpoints lie; one of them must be there. Those within the ring
// look the same, and are no start: the ring does not lie as far behind them.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    const auto super = parse_superblock(there);
    if (!super) return std::nullopt;
    const std::uint64_t block = super->nx_block_size;
    const auto ring = checked_add(at, super->nx_xp_desc_base * block);
    if (!ring || super->nx_xp_desc_base == 0) return std::nullopt;
    const std::uint32_t blocks = std::min<std::uint32_t>(super->nx_xp_desc_blocks & ~kNotContiguous, 4096);
    for (std::uint64_t i = 0; i < blocks; ++i) {
        const auto bytes = bytes_at(medium, *ring + i * block, static_cast<std::size_t>(block));
        if (!bytes) return std::nullopt;
        const ByteView view(*bytes);
        const std::uint32_t type = view.as<ObjPhys>(0)->o_type & OBJECT_TYPE_MASK;
        if (type != OBJECT_TYPE_NX_SUPERBLOCK || !has_right_sum(*bytes)) continue;
        const auto other = parse_superblock(view);
        const bool agrees = other && std::equal(std::begin(other->nx_uuid), std::end(other->nx_uuid), super->nx_uuid);
        if (!agrees) continue;
        return VolumeTrace{"APFS", "", at, super->nx_block_count * block, 2, "its superblock and a checkpoint agree",
                           at};
    }
    return std::nullopt;
}

}  // namespace dredger::apfs

#include "filesystems/apfs/apfs.h"

namespace dredger::apfs {
namespace {

// Where a checkpoint's superblock stands in the ring of its descriptors: behind all else of it.
std::uint64_t place_in_ring(const NxSuperblock& super) {
    const std::uint32_t blocks = super.nx_xp_desc_blocks & ~kNotContiguous;
    return blocks == 0 ? 0 : (super.nx_xp_desc_index + std::uint64_t{super.nx_xp_desc_len} + blocks - 1) % blocks;
}

// How many checkpoints stand where they should if the container begins at `start`.
unsigned checkpoints_at(const Medium& medium, std::uint64_t start, const NxSuperblock& super) {
    constexpr std::uint32_t kMost = 4096;  // blocks
    unsigned count = 0;
    const std::uint64_t block = super.nx_block_size;
    const std::uint32_t blocks = std::min<std::uint32_t>(super.nx_xp_desc_blocks & ~kNotContiguous, kMost);
    for (std::uint64_t i = 0; i < blocks; ++i) {
        const auto at = checked_add(start, (super.nx_xp_desc_base + i) * block);
        const auto bytes = at ? bytes_at(medium, *at, static_cast<std::size_t>(block)) : std::nullopt;
        if (!bytes) break;
        const auto other = parse_superblock(ByteView(*bytes));
        if (other && std::equal(std::begin(other->nx_uuid), std::end(other->nx_uuid), super.nx_uuid) &&
            place_in_ring(*other) == i && has_right_sum(*bytes))
            ++count;
    }
    return count;
}

}  // namespace

// The block at a container's start is a copy of a checkpoint's, so that it shows by where the others are which of these
// it is.
std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    const auto super = parse_superblock(there);
    if (!super || super->nx_xp_desc_base == 0) return std::nullopt;
    const std::uint64_t length = super->nx_block_count * super->nx_block_size;
    if (const unsigned agreeing = checkpoints_at(medium, at, *super); agreeing > 0)
        return VolumeTrace{"APFS", "", at, length, 1 + agreeing, "its superblock and its checkpoints agree", at};
    const auto before = checked_mul(super->nx_xp_desc_base + place_in_ring(*super), super->nx_block_size);
    if (!before || *before > at) return std::nullopt;
    const unsigned agreeing = checkpoints_at(medium, at - *before, *super);
    if (agreeing < 2) return std::nullopt;
    return VolumeTrace{"APFS", "", at - *before, length, agreeing, "several of its checkpoints agree", at};
}

}  // namespace dredger::apfs

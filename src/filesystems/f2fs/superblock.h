// Where the parts of an F2FS volume lie, by its superblock.
#pragma once

#include <array>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "filesystems/f2fs/structures.h"

namespace dredger::f2fs {

// Addresses are numbers of blocks from the start of the volume.
struct Geometry {
    std::uint64_t blocks = 0;
    std::uint32_t segment_blocks = 0;
    std::uint32_t checkpoint_at = 0, sit_at = 0, nat_at = 0, summaries_at = 0, main_at = 0;
    std::uint32_t sit_segments = 0, nat_segments = 0, main_segments = 0;
    std::uint32_t checkpoint_payload = 0;  // blocks of further bitmaps behind a checkpoint
    std::uint32_t root_inode = 0;
    std::uint32_t features = 0;
    std::array<std::byte, 16> uuid{};
    std::string label;

    std::uint64_t size() const { return blocks * kBlock; }
    std::uint64_t main_blocks() const { return std::uint64_t{main_segments} * segment_blocks; }
    // Whether files and nodes can lie there.
    bool is_in_main(std::uint32_t block) const { return block >= main_at && block - main_at < main_blocks(); }
    std::uint32_t first_of(std::uint32_t segment) const { return main_at + segment * segment_blocks; }
    // Node numbers that the table has room for.
    std::uint64_t nodes() const { return std::uint64_t{nat_segments} / 2 * segment_blocks * kNatEntriesPerBlock; }
};

// `bytes`: a superblock. None where it makes no sense.
std::optional<Geometry> parse_superblock(ByteView bytes);

}  // namespace dredger::f2fs

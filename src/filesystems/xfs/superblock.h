// Where the parts of an XFS volume lie, by its superblock.
#pragma once

#include <algorithm>
#include <array>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "filesystems/xfs/structures.h"

namespace dredger::xfs {

struct Geometry {
    bool has_checksums = false;  // version 5
    bool has_types = false;      // directory entries tell the type of file
    bool has_sparse_inodes = false;
    std::uint32_t block_size = 0;            // bytes
    std::uint32_t sector_size = 0;           // bytes
    std::uint32_t inode_size = 0;            // bytes
    std::uint64_t directory_block_size = 0;  // bytes
    std::uint64_t blocks = 0;                // of the whole volume
    std::uint32_t group_blocks = 0;          // of each allocation group; the last one may have fewer
    std::uint32_t groups = 0;
    unsigned block_bits = 0;      // of a block's number within its group
    unsigned inode_bits = 0;      // of an inode's number within its block
    std::uint64_t log_start = 0;  // block number with its group; 0: the log lies elsewhere
    std::uint32_t log_blocks = 0;
    std::uint64_t root_inode = 0;
    std::uint32_t chunk_alignment = 1;  // blocks
    std::array<std::byte, 16> uuid{};
    std::string label;

    std::uint64_t size() const { return blocks * block_size; }
    std::uint32_t header_size() const { return has_checksums ? 176 : 100; }  // bytes of an inode before its forks

    std::uint64_t blocks_of(std::uint32_t group) const {
        const std::uint64_t first = std::uint64_t{group} * group_blocks;
        return std::min<std::uint64_t>(group_blocks, blocks - std::min(first, blocks));
    }
    // Bytes from the start of the volume.
    std::uint64_t offset_in(std::uint32_t group, std::uint64_t block) const {
        return (std::uint64_t{group} * group_blocks + block) * block_size;
    }
    // Of a block number that has its group in it; none where there is no such block.
    std::optional<std::uint64_t> offset_of(std::uint64_t block) const {
        const std::uint64_t group = block >> block_bits, within = block & ((std::uint64_t{1} << block_bits) - 1);
        if (group >= groups || within >= blocks_of(static_cast<std::uint32_t>(group))) return std::nullopt;
        return offset_in(static_cast<std::uint32_t>(group), within);
    }
    std::optional<std::uint64_t> offset_of_inode(std::uint64_t inode) const {
        const auto block = offset_of(inode >> inode_bits);
        const std::uint64_t index = inode & ((std::uint64_t{1} << inode_bits) - 1);
        return block && inode != 0 ? std::optional(*block + index * inode_size) : std::nullopt;
    }
    std::uint64_t inode_number(std::uint32_t group, std::uint64_t within) const {
        return (std::uint64_t{group} << (block_bits + inode_bits)) | within;
    }
};

// `sector`: a superblock of any allocation group, at least SuperBlock's size. None where it makes no sense.
std::optional<Geometry> parse_superblock(ByteView sector);

}  // namespace dredger::xfs

#include "filesystems/ext/inode_table.h"

#include <algorithm>

#include "media/cached.h"

namespace dredger::ext {
namespace {

// Of the tables' parts that were never in use, as much is looked at.
constexpr std::uint64_t kMaxUnused = std::uint64_t{256} << 20;  // bytes
constexpr std::size_t kAtOnce = 1 << 20;                        // bytes

}  // namespace

InodeTable::InodeTable(MediumPtr volume, const Geometry& geometry, const Groups& groups, const Journal& journal)
    : volume_(std::move(volume)),
      cached_(std::make_shared<Cached>(volume_, 8192)),
      geometry_(geometry),
      groups_(groups),
      journal_(journal) {}

std::optional<Inode> InodeTable::parse(ByteView bytes, std::uint32_t number) const {
    auto inode = parse_inode(bytes, number, geometry_);
    // What stands within the inode stands where its block really is.
    if (inode && (inode->has_inline_data() || inode->is_fast_symlink())) {
        const std::uint64_t home = bytes.origin();
        const std::uint64_t there = journal_.place_now(home);
        inode->block_at = inode->block_at - home + there;
        if (inode->inline_rest.length > 0) inode->inline_rest.offset = inode->inline_rest.offset - home + there;
    }
    return inode;
}

std::optional<Inode> InodeTable::read(std::uint32_t number) const {
    const auto place = groups_.place_of(number);
    if (!place) return std::nullopt;
    const auto bytes = cached_->bytes(*place, geometry_.inode_size);
    return bytes ? parse(ByteView(*bytes, *place), number) : std::nullopt;
}

bool InodeTable::checks_out(std::uint32_t number) const {
    const auto place = groups_.place_of(number);
    const auto bytes = place ? cached_->bytes(*place, geometry_.inode_size) : cached_->bytes(0, 0);
    return place && bytes && checksum_agrees(ByteView(*bytes), number, geometry_);
}

Mapping InodeTable::map(const Inode& inode) const {
    return map_blocks(inode, geometry_, [this](std::uint64_t block, const std::function<bool(ByteView)>& fits) {
        const std::uint64_t at = block * geometry_.block_size;
        const auto bytes = cached_->bytes(at, static_cast<std::size_t>(geometry_.block_size));
        return bytes && fits(ByteView(*bytes, at));
    });
}

bool InodeTable::each_in(std::uint64_t group, std::uint64_t from, std::uint64_t count, bool in_table,
                         const std::function<bool(const Entry&)>& visit) const {
    const std::uint64_t per_chunk = std::max<std::uint64_t>(1, kAtOnce / geometry_.inode_size);
    std::vector<std::byte> chunk;
    for (std::uint64_t index = from; index < from + count; index += per_chunk) {
        const std::uint64_t first = group * geometry_.inodes_per_group + index + 1;
        if (first > geometry_.inodes) break;
        const auto place = groups_.place_of(static_cast<std::uint32_t>(first));
        const std::uint64_t here = std::min({per_chunk, from + count - index, geometry_.inodes - first + 1});
        if (!place) break;
        chunk.resize(static_cast<std::size_t>(here) * geometry_.inode_size);
        std::vector<Extent> bad;  // comes as zeros: inodes never in use
        if (!volume_->read(*place, chunk, &bad)) break;
        for (std::size_t i = 0; i < here; ++i) {
            const std::size_t at = i * geometry_.inode_size;
            const ByteView bytes(std::span<const std::byte>(chunk).subspan(at, geometry_.inode_size), *place + at);
            if (bytes.has(0, std::string_view("\0\0", 2))) continue;
            const auto inode = parse(bytes, static_cast<std::uint32_t>(first + i));
            if (inode && inode->mode != 0 && !visit({*inode, in_table})) return false;
        }
    }
    return true;
}

void InodeTable::each(const std::function<bool(const Entry&)>& visit,
                      const std::function<bool(std::uint64_t group)>& done) const {
    std::uint64_t unused_left = kMaxUnused;
    for (std::uint64_t group = 0; group < geometry_.groups; ++group) {
        const std::uint64_t used = groups_.used_inodes(group);
        if (!done(group) || !each_in(group, 0, used, true, visit)) return;
        const std::uint64_t unused = (geometry_.inodes_per_group - used) * geometry_.inode_size;
        const bool is_zeroed = (groups_.all()[static_cast<std::size_t>(group)].flags & kInodeTableZeroed) != 0;
        if (is_zeroed || unused > unused_left) continue;
        unused_left -= unused;
        if (!each_in(group, used, geometry_.inodes_per_group - used, false, visit)) return;
    }
}

}  // namespace dredger::ext

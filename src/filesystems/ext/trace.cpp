// What a superblock, or a copy of one, tells of its volume.
#include <fmt/format.h>

#include "filesystems/ext/ext.h"

namespace dredger::ext {
namespace {

// The first group descriptors stand in the block behind a superblock and point into the volume.
bool has_descriptors(const Medium& medium, std::uint64_t at, const Geometry& g, std::uint64_t group) {
    const bool shares_block = group == 0 && g.block_size > kSuperBlockOffset;
    const auto entry = bytes_at(medium, shares_block ? at - kSuperBlockOffset + g.block_size : at + g.block_size, 12);
    if (!entry) return false;
    const ByteView view(*entry);
    const std::uint32_t places[] = {*view.u32le(0), *view.u32le(4), *view.u32le(8)};
    return g.holds(places[0]) && g.holds(places[1]) && g.holds(places[2]) && places[0] != places[1] &&
           places[1] != places[2];
}

}  // namespace

std::optional<VolumeTrace> trace(const Medium& medium, std::uint64_t at, ByteView there) {
    constexpr std::size_t kGroupNumber = 0x5A;  // s_block_group_nr
    if (!there.has(0x38, "\x53\xEF") || there.size() < sizeof(SuperBlock)) return std::nullopt;
    const std::uint64_t group = *there.u16le(kGroupNumber);
    const auto found = parse_superblock(there, group);
    if (!found || !has_descriptors(medium, at, *found, group)) return std::nullopt;
    const std::uint64_t before = group == 0 ? kSuperBlockOffset : found->first_block_of(group) * found->block_size;
    if (before > at) return std::nullopt;
    const std::uint64_t start = at - before;
    bool agrees_with_first = false;
    if (group > 0) {
        const auto first = bytes_at(medium, start + kSuperBlockOffset, sizeof(SuperBlock));
        if (const auto primary = first ? parse_superblock(ByteView(*first), 0) : std::nullopt) {
            // Where it still stands, it is of the same file system.
            if (primary->uuid != found->uuid) return std::nullopt;
            agrees_with_first = true;
        }
    }
    return VolumeTrace{found->filesystem,
                       found->label,
                       start,
                       found->size(),
                       agrees_with_first ? 2U : 1U,
                       group == 0          ? "its superblock and its group descriptors agree"
                       : agrees_with_first ? fmt::format("its superblock and the copy in block group {} agree", group)
                                           : fmt::format("the copy of its superblock in block group {} and the group "
                                                         "descriptors behind it agree",
                                                         group),
                       at};
}

}  // namespace dredger::ext

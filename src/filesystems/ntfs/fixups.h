// The update sequence that guards records and index blocks against torn writes.
#pragma once

#include <cstddef>
#include <span>

namespace dredger::ntfs {

// Puts the swapped-out bytes back. Tells how many bytes from the start on are good: all of them, fewer where a later
// part was written at another time than the start, none where the array itself makes no sense.
std::size_t apply_fixups(std::span<std::byte> block);

// Where the bytes at `offset` of a block really stand: at the end of each stride of 512 the last two bytes are in the
// update sequence array. Hands over each run of bytes as (offset in the block, length).
template <class Visitor>
void for_each_stored_run(std::size_t array_offset, std::size_t offset, std::size_t length, const Visitor& visit) {
    constexpr std::size_t kStride = 512;
    while (length > 0) {
        const std::size_t stride = offset / kStride;
        const std::size_t swapped = (stride + 1) * kStride - 2;
        const bool is_swapped = offset >= swapped;
        const std::size_t part = std::min(length, (is_swapped ? swapped + 2 : swapped) - offset);
        visit(is_swapped ? array_offset + 2 * (stride + 1) + (offset - swapped) : offset, part);
        offset += part;
        length -= part;
    }
}

}  // namespace dredger::ntfs

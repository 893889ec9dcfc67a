#include "filesystems/ntfs/fixups.h"

#include "base/bytes.h"
#include "filesystems/ntfs/structures.h"

namespace dredger::ntfs {

std::size_t apply_fixups(std::span<std::byte> block) {
    const auto header = ByteView(block).as<MultiSectorHeader>(0);
    if (!header) return 0;
    const std::size_t strides = block.size() / kFixupStride;
    const std::size_t array = header->UpdateSequenceArrayOffset;
    const bool fits = header->UpdateSequenceArraySize == strides + 1 && array >= sizeof(MultiSectorHeader) &&
                      array + 2 * (strides + 1) <= kFixupStride - 2;
    if (!fits) return 0;
    for (std::size_t i = 0; i < strides; ++i) {
        const std::size_t end = (i + 1) * kFixupStride - 2;
        if (block[end] != block[array] || block[end + 1] != block[array + 1]) return i * kFixupStride;
        block[end] = block[array + 2 * (i + 1)];
        block[end + 1] = block[array + 2 * (i + 1) + 1];
    }
    return strides * kFixupStride;
}

}  // namespace dredger::ntfs

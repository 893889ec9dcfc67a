// Where clusters lie, told by folders that point to themselves: for a volume whose boot sector does not tell any more.
#pragma once

#include <optional>
#include <vector>

#include "base/bytes.h"
#include "filesystems/fat/directory.h"
#include "media/medium.h"

namespace dredger::fat {

struct FolderStart {
    std::uint64_t offset;   // bytes, on the volume
    std::uint32_t cluster;  // that it says it lies in
};
// Sectors of the first 64 MiB that begin a folder below the root.
std::vector<FolderStart> folder_starts(const Medium& volume);

struct Grid {
    std::uint64_t cluster_size;  // bytes
    std::uint64_t data_offset;   // bytes; cluster 2 starts here
    std::size_t folders;         // that agree
};
// The one that most folders agree on, of those whose first cluster lies at `least` or behind it.
std::optional<Grid> grid_of(const std::vector<FolderStart>& starts, std::uint64_t least);

// The entries in the sector at `from` of `bytes`, which must hold it.
std::vector<Slot> slots_of_sector(ByteView bytes, std::size_t from);

}  // namespace dredger::fat

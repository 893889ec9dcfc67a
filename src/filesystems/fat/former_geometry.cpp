#include "filesystems/fat/former_geometry.h"

#include <algorithm>

#include "filesystems/fat/folder_grid.h"

namespace dredger::fat {

std::optional<Geometry> find_former_geometry(const Medium& volume, const Geometry* present, const SpaceMap& today) {
    constexpr std::size_t kLeastFolders = 2;
    constexpr std::uint32_t kUsualRoot = 512;  // entries of a root directory of fixed size
    std::vector<FolderStart> starts = folder_starts(volume);
    std::erase_if(starts, [&](const FolderStart& s) {
        const bool fits = present != nullptr && present->holds(s.cluster) && present->offset_of(s.cluster) == s.offset;
        return fits || today.taken_bytes_in({s.offset, 1}) > 0;
    });
    const auto grid = grid_of(starts, 1);
    if (!grid || grid->folders < kLeastFolders) return std::nullopt;

    Geometry former = present != nullptr ? *present : Geometry{};
    former.size = volume.size();
    former.cluster_size = grid->cluster_size;
    former.data_offset = grid->data_offset;
    former.cluster_count = static_cast<std::uint32_t>(
        std::min<std::uint64_t>((volume.size() - former.data_offset) / former.cluster_size, kMaxClusters));
    former.width = Width::fat32;
    former.root_cluster = 2;
    former.warnings.clear();
    // Where the first cluster is no folder without a parent, the root lay before it.
    const auto first = volume.bytes(former.data_offset, 512);
    const auto slots = first ? slots_of_sector(ByteView(*first, former.data_offset), 0) : std::vector<Slot>();
    if (!continues_directory(slots) || dot_entries(slots)) {
        former.width = Width::fat16;
        former.root_entries = kUsualRoot;
        former.root_offset = former.data_offset - std::min<std::uint64_t>(former.data_offset, kUsualRoot * kEntrySize);
    }
    return former;
}

}  // namespace dredger::fat

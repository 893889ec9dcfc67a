#include "scanning/volumes_of.h"

#include "filesystems/filesystem.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"

namespace dredger {

Result<std::optional<PartitionMap>> volumes_of(const MediumPtr& medium, Observer& observer) {
    DREDGER_TRY(PartitionMap map, read_partition_map(*medium));
    add_contained_volumes(medium, map);
    std::vector<bool> known;
    for (const Volume& volume : map.volumes) {
        const auto opened = open_filesystem(open_volume(medium, volume));
        // What a table tells of is a volume, whether its file system can be read or not.
        known.push_back(volume.table != TableKind::none || !volume.holds.empty() || !opened || *opened != nullptr);
    }
    if (!add_lost_volumes(*medium, known, all_tracers(), observer, map)) return std::nullopt;
    return map;
}

}  // namespace dredger

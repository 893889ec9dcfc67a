#include "scanning/volumes_of.h"

#include "volumes/containers.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

Result<std::shared_ptr<const FileSystem>> shared(Result<std::unique_ptr<FileSystem>> opened) {
    if (!opened) return tl::unexpected<Error>(opened.error());
    return std::shared_ptr<const FileSystem>(std::move(*opened));
}

}  // namespace

Result<std::optional<VolumesOfMedium>> VolumesOfMedium::find(const MediumPtr& medium, Observer& observer) {
    VolumesOfMedium found(medium);
    PartitionMap& map = found.map_;
    DREDGER_TRY(map, read_partition_map(*medium));
    add_contained_volumes(medium, map);
    std::vector<bool> known;
    for (const Volume& volume : map.volumes) {
        const auto& opened =
            found.recognised_.emplace(volume.number, shared(open_filesystem(open_volume(medium, volume))))
                .first->second;
        // What a table tells of is a volume, whether its file system can be read or not.
        known.push_back(volume.table != TableKind::none || !volume.holds.empty() || !opened || *opened != nullptr);
    }
    // Lost volumes are numbered between the others.
    const auto place_of = [](const Volume& v) { return std::tuple(v.offset, v.length, v.holds); };
    std::map<std::tuple<std::uint64_t, std::uint64_t, std::string>, unsigned> before;
    for (const Volume& volume : map.volumes) before[place_of(volume)] = volume.number;
    if (!add_lost_volumes(*medium, known, all_tracers(), observer, map)) return std::nullopt;
    std::map<unsigned, Opened> renumbered;
    for (const Volume& volume : map.volumes) {
        if (volume.table == TableKind::lost) continue;
        const auto number = before.find(place_of(volume));
        const auto there = number == before.end() ? found.recognised_.end() : found.recognised_.find(number->second);
        if (there != found.recognised_.end()) renumbered.emplace(volume.number, there->second);
    }
    found.recognised_ = std::move(renumbered);
    return std::optional(std::move(found));
}

const Result<std::shared_ptr<const FileSystem>>& VolumesOfMedium::filesystem(const Volume& place) {
    if (const auto known = opened_.find(place.number); known != opened_.end()) return known->second;
    const auto recognised = recognised_.find(place.number);
    const bool is_known = recognised != recognised_.end() && (!recognised->second || *recognised->second != nullptr);
    if (is_known) return opened_.emplace(place.number, recognised->second).first->second;
    const MediumPtr volume = open_volume(medium_, place);
    return opened_.emplace(place.number, shared(place.holds.empty() ? open_or_infer(volume) : open_filesystem(volume)))
        .first->second;
}

}  // namespace dredger

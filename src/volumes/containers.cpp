#include "volumes/containers.h"

#include <fmt/format.h>

#include "volumes/luks.h"
#include "volumes/lvm.h"
#include "volumes/mapping.h"
#include "volumes/md.h"

namespace dredger {
namespace {

using Look = std::optional<Container> (*)(const Medium& volume);
constexpr Look kKinds[] = {lvm::look, md::look, luks::look};
constexpr std::size_t kMaxVolumes = 1024;

}  // namespace

std::optional<Container> look_into_container(const Medium& volume) {
    for (const Look look : kKinds)
        if (auto found = look(volume)) return found;
    return std::nullopt;
}

void add_contained_volumes(const MediumPtr& medium, PartitionMap& map) {
    unsigned number = 0;
    for (const Volume& volume : map.volumes) number = std::max(number, volume.number);
    // A volume in a container may be one itself.
    for (std::size_t i = 0; i < map.volumes.size() && map.volumes.size() < kMaxVolumes; ++i) {
        const auto container = look_into_container(*open_volume(medium, map.volumes[i]));
        if (!container) continue;
        map.volumes[i].holds = container->type;
        for (const std::string& remark : container->remarks)
            map.warnings.push_back(fmt::format("volume {}: {}", map.volumes[i].number, remark));
        for (const Volume& inner : container->volumes) {
            const std::vector<Extent> runs =
                inner.pieces.empty() ? std::vector<Extent>{{inner.offset, inner.length}} : inner.pieces;
            Volume volume = inner;
            volume.pieces = on_medium(map.volumes[i], runs);
            std::erase_if(volume.pieces, [](const Extent& piece) { return !piece.is_stored(); });
            if (volume.pieces.empty()) continue;
            volume.number = ++number;
            volume.table = TableKind::container;
            volume.offset = volume.pieces.front().offset;
            volume.length = 0;
            for (const Extent& piece : volume.pieces) volume.length += piece.length;
            if (volume.pieces.size() == 1) volume.pieces.clear();
            map.volumes.push_back(std::move(volume));
            map.volumes[i].has_volumes = true;
        }
    }
}

}  // namespace dredger

#include "catalog/candidate.h"

#include <algorithm>
#include <fmt/format.h>

namespace dredger {

std::string name_of_volume(const ScannedVolume& volume) {
    if (volume.place.number == 0) return "outside the volumes";
    return volume.facts.label.empty() ? fmt::format("volume {}", volume.place.number)
                                      : fmt::format("volume {} {}", volume.place.number, volume.facts.label);
}

const ScannedVolume* row_of(const std::vector<ScannedVolume>& list, std::int64_t source, const Volume& place) {
    const auto found = std::find_if(list.begin(), list.end(), [&](const ScannedVolume& v) {
        return v.source == source && v.place.offset == place.offset &&
               (v.place.table == TableKind::lost) == (place.table == TableKind::lost) &&
               (v.place.table == TableKind::container) == (place.table == TableKind::container) &&
               (place.table != TableKind::lost || place.type == v.facts.filesystem);
    });
    return found == list.end() ? nullptr : &*found;
}

std::string title_of(const FileEntry& record) {
    const auto written = record.created ? record.created : record.modified;
    return written ? fmt::format("{} (written {})", record.path(), short_time(*written)) : record.path();
}

}  // namespace dredger

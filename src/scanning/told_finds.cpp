#include "scanning/told_finds.h"

#include "media/coverage.h"

namespace dredger {

Result<std::uint64_t> remove_finds_told_by(Catalog& catalog, const ScannedVolume& volume) {
    std::set<std::uint64_t> starts;
    Coverage proven;
    std::int64_t last = 0;
    DREDGER_CHECK(catalog.each_piece(volume.id, [&](std::int64_t candidate, const Extent& piece, bool is_proven) {
        if (candidate != last && piece.is_stored()) starts.insert(piece.offset);
        if (is_proven && piece.is_stored()) proven.add(piece);
        last = candidate;
    }));
    Selection by_content;
    by_content.origins = {Origin::signature};
    DREDGER_TRY(const auto volumes, catalog.volumes());
    for (const ScannedVolume& other : volumes)
        if (other.source == volume.source) by_content.volumes.insert(other.id);
    std::vector<std::int64_t> known;
    DREDGER_CHECK(catalog.each(by_content, Order{}, true, [&](const Candidate& find) {
        const auto& pieces = find.layout.extents;
        if (!pieces.empty() && (starts.contains(pieces.front().offset) || proven.covers(pieces.front().offset)))
            known.push_back(find.id);
        return true;
    }));
    DREDGER_CHECK(catalog.begin());
    DREDGER_CHECK(catalog.remove_finds(known));
    DREDGER_CHECK(catalog.commit());
    return known.size();
}

void count_as_told(std::uint64_t finds, std::uint64_t offset, ScanReport& report) {
    for (SurfaceReport& surface : report.surfaces) {
        const std::uint64_t moved = std::min(finds, surface.finds);
        if (offset < surface.offset || moved == 0) continue;
        surface.finds -= moved;
        surface.merged += moved;
        return;
    }
}

}  // namespace dredger

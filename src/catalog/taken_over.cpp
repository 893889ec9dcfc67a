#include "catalog/taken_over.h"

namespace dredger {

Result<std::vector<TakenOver>> taken_over(const Catalog& catalog, const Candidate& candidate) {
    std::vector<TakenOver> taken;
    const Layout& layout = candidate.layout;
    if (layout.codec != Codec::none) return taken;
    DREDGER_TRY(const auto overlaps, catalog.overlapping(candidate));
    std::vector<std::uint64_t> starts;  // of the pieces, in the file
    std::uint64_t start = 0;
    for (const Extent& extent : layout.extents) {
        starts.push_back(start);
        start += extent.length;
    }
    for (const Catalog::Overlap& overlap : overlaps) {
        if (overlap.is_same_file || overlap.state != State::live || overlap.piece >= starts.size()) continue;
        const std::uint64_t from = starts[overlap.piece] + overlap.shared.offset - layout.extents[overlap.piece].offset;
        if (from < candidate.record.size)
            taken.push_back({{from, std::min(overlap.shared.length, candidate.record.size - from)}, overlap.path});
    }
    return taken;
}

}  // namespace dredger

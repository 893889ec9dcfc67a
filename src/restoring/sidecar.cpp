#include "restoring/sidecar.h"

#include <nlohmann/json.hpp>

#include "base/whole_file.h"

namespace dredger {

std::filesystem::path sidecar_of(const std::filesystem::path& file) { return file.string() + ".missing.json"; }

namespace {

// Which bytes of the file live ones lie on now: offset, length, and whose they are.
nlohmann::ordered_json overwritten_by_live(const Catalog& catalog, const Candidate& candidate) {
    nlohmann::ordered_json list = nlohmann::ordered_json::array();
    const Layout& layout = candidate.layout;
    const auto overlaps = catalog.overlapping(candidate);
    if (!overlaps || layout.codec != Codec::none) return list;
    std::vector<std::uint64_t> starts;  // of the pieces, in the file
    std::uint64_t start = 0;
    for (const Extent& extent : layout.extents) {
        starts.push_back(start);
        start += extent.length;
    }
    for (const Catalog::Overlap& overlap : *overlaps) {
        if (overlap.is_same_file || overlap.state != State::live || overlap.piece >= starts.size()) continue;
        const std::uint64_t from = starts[overlap.piece] + overlap.shared.offset - layout.extents[overlap.piece].offset;
        if (from < candidate.record.size)
            list.push_back({from, std::min(overlap.shared.length, candidate.record.size - from), overlap.path});
    }
    return list;
}

}  // namespace

Result<void> write_sidecar(const std::filesystem::path& file, const Catalog& catalog, const Candidate& candidate,
                           const std::vector<Extent>& gaps) {
    nlohmann::ordered_json side = {{"file", file.filename().string()},
                                   {"original_path", candidate.record.path()},
                                   {"size", candidate.record.size},
                                   {"prospect", candidate.prospect.value},
                                   {"band", word_for(candidate.prospect.band)},
                                   {"check", word_for(candidate.prospect.check)},
                                   {"missing", nlohmann::ordered_json::array()},
                                   {"overwritten", overwritten_by_live(catalog, candidate)},
                                   {"reasons", candidate.prospect.reasons}};
    for (const Extent& gap : gaps) side["missing"].push_back({gap.offset, gap.length});
    return write_whole_file(sidecar_of(file),
                            side.dump(1, ' ', false, nlohmann::json::error_handler_t::replace) + "\n");
}

}  // namespace dredger

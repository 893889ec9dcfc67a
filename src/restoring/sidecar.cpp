#include "restoring/sidecar.h"

#include <nlohmann/json.hpp>

#include "base/whole_file.h"
#include "catalog/taken_over.h"

namespace dredger {

std::filesystem::path sidecar_of(const std::filesystem::path& file) { return file.string() + ".missing.json"; }

namespace {

// Which bytes of the file live ones lie on now: offset, length, and whose they are.
nlohmann::ordered_json overwritten_by_live(const Catalog& catalog, const Candidate& candidate) {
    nlohmann::ordered_json list = nlohmann::ordered_json::array();
    const auto taken = taken_over(catalog, candidate);
    if (!taken) return list;
    for (const TakenOver& one : *taken) list.push_back({one.range.offset, one.range.length, one.path});
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
    // Something is not its own, and nothing tells where.
    side["unknown"] = nlohmann::ordered_json::array();
    if (side["missing"].empty() && side["overwritten"].empty()) side["unknown"].push_back({0, candidate.record.size});
    return write_whole_file(sidecar_of(file),
                            side.dump(1, ' ', false, nlohmann::json::error_handler_t::replace) + "\n");
}

}  // namespace dredger

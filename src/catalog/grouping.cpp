#include "catalog/grouping.h"

#include <algorithm>
#include <cmath>

#include "ranking/bands.h"

namespace dredger {

Totals Totals::of_one(bool is_folder, Band band, std::uint64_t size, int prospect) {
    Totals totals;
    if (is_folder) {
        totals.folders = 1;
        return totals;
    }
    totals.files = 1;
    totals.bytes = size;
    totals.expected_bytes = static_cast<std::uint64_t>(static_cast<double>(size) * prospect / 100);
    totals.bands[static_cast<std::size_t>(band)] = 1;
    return totals;
}

void Totals::add(const Totals& more) {
    files += more.files;
    folders += more.folders;
    bytes += more.bytes;
    expected_bytes += more.expected_bytes;
    for (std::size_t i = 0; i < bands.size(); ++i) bands[i] += more.bands[i];
}

int Totals::prospect() const {
    if (bytes > 0)
        return static_cast<int>(std::lround(static_cast<double>(expected_bytes) * 100 / static_cast<double>(bytes)));
    const std::uint64_t sound = bands[static_cast<std::size_t>(Band::sound)];
    return files == 0 ? 0 : static_cast<int>(sound * 100 / files);
}

// A group is sound where all of it is, and gone where nothing is left of any.
Band Totals::band() const {
    if (files > 0 && bands[static_cast<std::size_t>(Band::sound)] == files) return Band::sound;
    if (bands[static_cast<std::size_t>(Band::gone)] == files) return Band::gone;
    return std::max(Band::patchy, std::min(Band::faint, band_for(prospect())));
}

void GroupTree::add(Path path, const Totals& totals) {
    all_.add(totals);
    if (path.size() > depth_) path.resize(depth_);
    for (; !path.empty(); path.pop_back()) groups_[path].add(totals);
}

std::vector<GroupTree::Group> GroupTree::groups() const {
    std::vector<Group> list;
    list.reserve(groups_.size());
    for (const auto& [path, totals] : groups_) list.push_back({path, totals});
    return list;
}

}  // namespace dredger

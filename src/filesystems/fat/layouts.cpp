#include "filesystems/fat/layouts.h"

#include <algorithm>

namespace dredger::fat {
namespace {

// However many files a damaged volume claims to have, no more clusters than this are looked at one by one.
constexpr std::uint64_t kStepsPerCluster = 8;
constexpr std::uint64_t kLeastSteps = 1 << 24;

void append(std::vector<Run>& runs, std::uint32_t cluster) {
    if (!runs.empty() && runs.back().first + runs.back().count == cluster)
        ++runs.back().count;
    else
        runs.push_back({cluster, 1});
}

}  // namespace

Layouts::Layouts(const Table& table, const Geometry& geometry)
    : table_(table), geometry_(geometry), steps_left_(kLeastSteps + kStepsPerCluster * geometry.cluster_count) {}

void Layouts::add_live(const std::vector<Run>& runs, const std::optional<FileTime>& written) {
    for (const Run& run : runs)
        live_.push_back({run.first, run.count, written.value_or(FileTime{}), written.has_value()});
    sorted_ = false;
}

void Layouts::add_deleted_folder(std::uint32_t cluster) { deleted_.assign(cluster, 1, {kFolder, Standing::yes}); }

void Layouts::add_deleted_file(const std::vector<Run>& runs, Standing standing) {
    ++files_;
    if (standing == Standing::no) return;
    for (const Run& run : runs) deleted_.assign(run.first, run.count, {files_, standing});
}

bool Layouts::is_deleted_folder(std::uint32_t cluster) const {
    const DeletedOwner* owner = deleted_.find(cluster);
    return owner != nullptr && owner->file == kFolder;
}

const Layouts::LiveRun* Layouts::live_at(std::uint32_t cluster) {
    if (!sorted_) {
        std::sort(live_.begin(), live_.end(), [](const LiveRun& a, const LiveRun& b) { return a.first < b.first; });
        sorted_ = true;
    }
    auto it = std::upper_bound(live_.begin(), live_.end(), cluster,
                               [](std::uint32_t c, const LiveRun& run) { return c < run.first; });
    if (it == live_.begin()) return nullptr;
    --it;
    return cluster - it->first < it->count ? &*it : nullptr;
}

std::vector<Run> Layouts::lay_out(std::uint32_t first, std::uint64_t count, const std::optional<FileTime>& written,
                                  Standing least) {
    std::vector<Run> runs;
    const DeletedOwner* at_start = deleted_.find(first);
    // What this file begins inside of was gone when it was written, and can't have been in its way.
    const std::size_t overwritten = at_start != nullptr ? at_start->file : kFolder;
    const std::uint32_t last = geometry_.last_cluster();
    std::uint64_t laid = 0;
    // Drivers go on at the front when they reach the end of the volume.
    for (std::uint32_t step = 0; laid < count && step < geometry_.cluster_count; ++step) {
        if (steps_left_ == 0) break;
        --steps_left_;
        const std::uint32_t cluster = step <= last - first ? first + step : 2 + (step - (last - first) - 1);
        if (cluster != first) {
            if (table_.taken(cluster)) {
                const LiveRun* live = live_at(cluster);
                const bool taken_since = live != nullptr && live->dated && written && *written < live->written;
                if (!taken_since) continue;
            } else if (const DeletedOwner* owner = deleted_.find(cluster);
                       owner != nullptr && owner->standing >= least) {
                if (owner->file == kFolder || owner->file != overwritten) continue;
            }
        }
        append(runs, cluster);
        ++laid;
    }
    return runs;
}

}  // namespace dredger::fat

#include "filesystems/exfat/chains.h"

#include <algorithm>

#include "filesystems/exfat/structures.h"

namespace dredger::exfat {

void add_cluster(std::vector<Run>& runs, std::uint32_t cluster) {
    if (!runs.empty() && runs.back().first + runs.back().count == cluster)
        ++runs.back().count;
    else
        runs.push_back({cluster, 1});
}

std::uint32_t Chains::entry(std::uint32_t cluster) const {
    const auto bytes = volume_->bytes(geometry_.fat_offset + std::uint64_t{cluster} * 4, 4);
    return bytes ? ByteView(*bytes).u32le(0).value_or(kFatBad) : kFatBad;
}

Chain Chains::follow(std::uint32_t first, std::uint64_t most) const {
    Chain chain;
    std::uint32_t cluster = first;
    // Brent's way to find circles: what comes back to the mark runs in one; the mark moves on ever more seldom.
    std::uint32_t mark = 0;
    std::uint64_t next_mark = 1;
    while (geometry_.holds(cluster) && chain.count < most && cluster != mark) {
        add_cluster(chain.runs, cluster);
        if (++chain.count == next_mark) {
            mark = cluster;
            next_mark *= 2;
        }
        cluster = entry(cluster);
        chain.ended = cluster == kFatEnd;
    }
    return chain;
}

std::vector<Extent> Chains::extents(const std::vector<Run>& runs, std::uint64_t length, std::uint64_t valid) const {
    std::vector<Extent> extents;
    std::uint64_t at = 0;
    for (const Run& run : runs) {
        if (at >= length) break;
        const std::uint64_t bytes = std::min(length - at, run.count * geometry_.cluster_size);
        const std::uint64_t stored = valid <= at ? 0 : std::min(bytes, valid - at);
        if (stored > 0) extents.push_back({geometry_.offset_of(run.first), stored});
        if (bytes > stored) {
            if (!extents.empty() && extents.back().is_zeros())
                extents.back().length += bytes - stored;
            else
                extents.push_back(Extent::zeros(bytes - stored));
        }
        at += bytes;
    }
    return extents;
}

std::vector<Run> Chains::straight(std::uint32_t first, std::uint64_t count) const {
    if (!geometry_.holds(first) || count == 0) return {};
    const std::uint64_t there = geometry_.cluster_count - (first - 2);
    return {{first, static_cast<std::uint32_t>(std::min(count, there))}};
}

}  // namespace dredger::exfat

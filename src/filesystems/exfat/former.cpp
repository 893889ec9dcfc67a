// An exFAT that a file system of another kind was put over, when both its boot regions are gone: where its clusters lay
// follows from its folders, as each names the cluster in which another one begins.
#include <algorithm>
#include <map>

#include "filesystems/exfat/entry_set.h"
#include "filesystems/exfat/exfat.h"

namespace dredger::exfat {
namespace {

constexpr std::uint64_t kChunk = 1 << 20;     // bytes read together
constexpr std::uint64_t kMaxRead = 64 << 20;  // bytes of the volume that are searched
constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLargestCluster = 32 << 20;  // bytes
constexpr std::size_t kMaxFolders = 1000;
constexpr std::size_t kLeastAgreeing = 2;  // folders

struct Found {
    std::vector<std::uint64_t> starts;   // bytes: sectors that begin with a proven set
    std::vector<std::uint32_t> folders;  // clusters that sets name as the start of a folder
    std::optional<std::uint64_t> root;   // bytes: a sector that begins as a root directory does
};

// The label or an entry for one, the bitmap and the table of capitals, which every formatting writes first.
bool begins_root(ByteView sector) {
    const auto type = [&](std::size_t i) { return sector.u8(i * kEntrySize).value_or(0); };
    const std::size_t first = (type(0) | kInUse) == kVolumeLabel ? 1 : 0;
    return type(first) == kAllocationBitmap && type(first + 1) == kUpcaseTable;
}

Found search(const Medium& left) {
    Found found;
    const Upcase upcase;
    std::vector<std::byte> chunk;
    const std::uint64_t end = std::min(left.size(), kMaxRead) / kSector * kSector;
    for (std::uint64_t at = 0; at < end; at += kChunk) {
        // A set may reach into the next sectors.
        chunk.resize(static_cast<std::size_t>(std::min(kChunk + kLongestSet * kEntrySize, end - at)));
        std::vector<Extent> bad;
        if (!left.read(at, chunk, &bad)) continue;
        const ByteView view(chunk, at);
        for (std::size_t i = 0; i < std::min<std::size_t>(kChunk, chunk.size()); i += kSector) {
            const ByteView rest = *view.slice(i, std::min<std::size_t>(chunk.size() - i, 2 * kSector));
            const std::uint8_t type = *rest.u8(0);
            if (!found.root && begins_root(rest)) found.root = at + i;
            const bool is_root = found.root == at + i;
            if (((type | kInUse) != kFile && !is_root) || found.starts.size() >= kMaxFolders) continue;
            const auto sets = read_sets(slots_in(rest), upcase);
            if (!is_root && (sets.empty() || sets.front().offset != at + i || !sets.front().has_file ||
                             !sets.front().checksum_agrees))
                continue;
            if (!is_root) found.starts.push_back(at + i);
            for (const EntrySet& set : sets)
                if (set.is_folder() && set.has_file && set.checksum_agrees && set.first_cluster >= 2)
                    found.folders.push_back(set.first_cluster);
        }
    }
    return found;
}

// Cluster size and heap on which most folders agree.
std::optional<std::pair<std::uint64_t, std::uint64_t>> vote(const Found& found) {
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> votes;
    std::vector<std::uint32_t> folders = found.folders;
    std::sort(folders.begin(), folders.end());
    folders.erase(std::unique(folders.begin(), folders.end()), folders.end());
    for (std::uint64_t size = kSector; size <= kLargestCluster; size *= 2)
        for (const std::uint32_t cluster : folders)
            for (const std::uint64_t start : found.starts) {
                const std::uint64_t before = std::uint64_t{cluster - 2} * size;
                if (before < start) ++votes[{size, start - before}];
            }
    const auto best =
        std::max_element(votes.begin(), votes.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    if (best == votes.end() || best->second < kLeastAgreeing) return std::nullopt;
    return best->first;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> former(MediumPtr left, const SpaceMap&) {
    const Found found = search(*left);
    const auto grid = vote(found);
    if (!grid) return nullptr;
    Geometry g;
    g.cluster_size = grid->first;
    g.heap_offset = grid->second;
    // No table is known: chains are told by entries alone.
    g.fat_offset = left->size();
    g.cluster_count = static_cast<std::uint32_t>(
        std::min<std::uint64_t>((left->size() - g.heap_offset) / g.cluster_size, kFatBad - 3));
    g.size = left->size();
    if (found.root && *found.root >= g.heap_offset && (*found.root - g.heap_offset) % g.cluster_size == 0)
        g.root_cluster = static_cast<std::uint32_t>((*found.root - g.heap_offset) / g.cluster_size + 2);
    return std::make_unique<ExFat>(std::move(left), g, VolumeFacts());
}

}  // namespace dredger::exfat

#include "filesystems/fat/folder_grid.h"

#include <algorithm>
#include <map>

namespace dredger::fat {
namespace {

constexpr std::uint64_t kChunk = 1 << 20;     // bytes read together
constexpr std::uint64_t kMaxRead = 64 << 20;  // bytes of the volume that are searched
constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLargestCluster = 256 << 10;  // bytes
constexpr std::size_t kMaxFolders = 2000;

}  // namespace

std::vector<Slot> slots_of_sector(ByteView bytes, std::size_t from) {
    std::vector<Slot> slots;
    for (std::size_t at = from; at < from + kSector; at += kEntrySize)
        slots.push_back({bytes.origin() + at, bytes.as<DirectoryEntry>(at).value()});
    return slots;
}

std::vector<FolderStart> folder_starts(const Medium& volume) {
    std::vector<FolderStart> starts;
    std::vector<std::byte> chunk(static_cast<std::size_t>(kChunk));
    const std::uint64_t end = std::min(volume.size(), kMaxRead);
    for (std::uint64_t at = 0; at + kSector <= end; at += kChunk) {
        const auto part = std::span(chunk).first(
            static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, (end - at) / kSector * kSector)));
        std::vector<Extent> bad;
        if (!volume.read(at, part, &bad)) continue;
        const ByteView view(part, at);
        for (std::size_t i = 0; i + kSector <= part.size() && starts.size() < kMaxFolders; i += kSector) {
            if (!view.has(i, ".          ") || !view.has(i + kEntrySize, "..         ")) continue;
            if (const auto dots = dot_entries(slots_of_sector(view, i)); dots && dots->self >= 2)
                starts.push_back({at + i, dots->self});
        }
    }
    return starts;
}

std::optional<Grid> grid_of(const std::vector<FolderStart>& starts, std::uint64_t least) {
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> votes;  // cluster size, data offset
    for (std::uint64_t size = kSector; size <= kLargestCluster; size *= 2)
        for (const FolderStart& start : starts) {
            const std::uint64_t before = (std::uint64_t{start.cluster} - 2) * size;
            if (before < start.offset && start.offset - before >= least) ++votes[{size, start.offset - before}];
        }
    const auto best =
        std::max_element(votes.begin(), votes.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    if (best == votes.end()) return std::nullopt;
    return Grid{best->first.first, best->first.second, best->second};
}

}  // namespace dredger::fat

#include "filesystems/fat/former_geometry.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "filesystems/fat/directory.h"

namespace dredger::fat {
namespace {

constexpr std::uint64_t kChunk = 1 << 20;      // bytes read together
constexpr std::uint64_t kMostRead = 64 << 20;  // bytes of the volume that are searched
constexpr std::uint64_t kSector = 512;
constexpr std::size_t kMostFolders = 2000;
constexpr std::uint32_t kUsualRoot = 512;  // entries of a root directory of fixed size

struct FolderStart {
    std::uint64_t offset;   // bytes, on the volume
    std::uint32_t cluster;  // that it says it lies in
};

std::vector<Slot> slots_in(ByteView bytes, std::size_t from) {
    std::vector<Slot> slots;
    for (std::size_t at = from; at < from + kSector; at += kEntrySize)
        slots.push_back({bytes.origin() + at, bytes.as<DirectoryEntry>(at).value()});
    return slots;
}

// Sectors that begin a folder.
std::vector<FolderStart> folder_starts(const Medium& volume) {
    std::vector<FolderStart> starts;
    std::vector<std::byte> chunk(static_cast<std::size_t>(kChunk));
    const std::uint64_t end = std::min(volume.size(), kMostRead);
    for (std::uint64_t at = 0; at + kSector <= end; at += kChunk) {
        const auto part = std::span(chunk).first(
            static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, (end - at) / kSector * kSector)));
        std::vector<Extent> bad;
        if (!volume.read(at, part, &bad)) continue;
        const ByteView view(part, at);
        for (std::size_t i = 0; i + kSector <= part.size() && starts.size() < kMostFolders; i += kSector) {
            if (!view.has(i, ".          ") || !view.has(i + kEntrySize, "..         ")) continue;
            if (const auto dots = dot_entries(slots_in(view, i)); dots && dots->self >= 2)
                starts.push_back({at + i, dots->self});
        }
    }
    return starts;
}

}  // namespace

std::optional<Geometry> find_former_geometry(const Medium& volume, const Geometry& present) {
    std::vector<FolderStart> starts = folder_starts(volume);
    std::erase_if(starts, [&](const FolderStart& s) {
        return present.holds(s.cluster) && present.offset_of(s.cluster) == s.offset;
    });
    // Each pair tells a size; the size and the place of the first cluster that most folders agree on are the right
    // ones.
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> votes;  // cluster size, data offset
    for (std::uint64_t size = kSector; size <= 256 << 10; size *= 2)
        for (const FolderStart& start : starts) {
            const std::uint64_t before = (std::uint64_t{start.cluster} - 2) * size;
            if (before < start.offset) ++votes[{size, start.offset - before}];
        }
    const auto best =
        std::max_element(votes.begin(), votes.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    constexpr std::size_t kLeast = 2;
    if (best == votes.end() || best->second < kLeast) return std::nullopt;

    Geometry former = present;
    std::tie(former.cluster_size, former.data_offset) = best->first;
    former.cluster_count = static_cast<std::uint32_t>(
        std::min<std::uint64_t>((volume.size() - former.data_offset) / former.cluster_size, 0x0FFFFFF5));
    former.width = Width::fat32;
    former.root_cluster = 2;
    former.warnings.clear();
    // Where the first cluster is no folder without a parent, the root lay before it.
    const auto first = volume.bytes(former.data_offset, kSector);
    const auto slots = first ? slots_in(ByteView(*first, former.data_offset), 0) : std::vector<Slot>();
    if (!continues_directory(slots) || dot_entries(slots)) {
        former.width = Width::fat16;
        former.root_entries = kUsualRoot;
        former.root_offset = former.data_offset - std::min<std::uint64_t>(former.data_offset, kUsualRoot * kEntrySize);
    }
    return former;
}

}  // namespace dredger::fat

#include "filesystems/fat/folder_clusters.h"

#include <algorithm>

namespace dredger::fat {
namespace {

constexpr std::size_t kLook = 512;  // bytes of each cluster
constexpr unsigned kMaxBlanks =
    2048;  // after so many clusters of one repeated byte, the rest of a free run was never used

// The entries that `bytes` hold; none where the first of them shows that they hold something else, as nearly all do.
std::vector<Slot> slots_in(ByteView bytes) {
    const unsigned first = std::to_integer<unsigned>(bytes.bytes()[0]);
    const unsigned attributes = std::to_integer<unsigned>(bytes.bytes()[11]);
    // A cluster may begin within a long name.
    const bool is_piece = first >= 1 && first <= kMostNamePieces && attributes == ATTR_LONG_NAME;
    if ((first < 0x20 && !is_piece) || (attributes & 0xC0U) != 0) return {};
    std::vector<Slot> slots;
    for (std::size_t at = 0; at < kLook; at += kEntrySize)
        slots.push_back({bytes.origin() + at, bytes.as<DirectoryEntry>(at).value()});
    return slots;
}

}  // namespace

std::optional<FileTime> earliest(std::span<const Slot> slots) {
    std::optional<FileTime> first;
    for (const Slot& slot : slots) {
        if (slot.entry.DIR_Name[0] == kEntryEnd) break;
        const auto time = slot.entry.is_long_name() ? std::nullopt : written(slot.entry);
        if (time && (!first || *time < *first)) first = time;
    }
    return first;
}

void FolderClusters::search(const Medium& volume, const Geometry& geometry, const Table& table,
                            const std::vector<Run>& known, std::uint64_t most) {
    std::vector<Run> skipped = known;
    std::sort(skipped.begin(), skipped.end(), [](const Run& a, const Run& b) { return a.first < b.first; });
    auto skip = skipped.begin();
    unsigned blanks = 0;  // one after the other
    for (std::uint64_t cluster = 2; cluster <= geometry.last_cluster() && most > 0; ++cluster) {
        while (skip != skipped.end() && skip->first + std::uint64_t{skip->count} <= cluster) ++skip;
        if (skip != skipped.end() && skip->first <= cluster) {
            cluster = skip->first + std::uint64_t{skip->count} - 1;
            continue;
        }
        const auto number = static_cast<std::uint32_t>(cluster);
        if (table.taken(number)) blanks = 0;
        if (table.taken(number) || blanks >= kMaxBlanks) continue;
        --most;
        std::byte bytes[kLook];
        const ByteView view(bytes, geometry.offset_of(number));
        if (!volume.read(view.origin(), bytes)) continue;
        blanks = view.is_uniform() ? blanks + 1 : 0;
        const std::vector<Slot> slots = slots_in(view);
        if (slots.empty()) continue;
        if (const auto dots = dot_entries(slots); dots && dots->self == number)
            beginnings_.emplace(number, dots->parent);
        else if (const auto time = earliest(slots); time && continues_directory(slots))
            continuations_.emplace(number, *time);
    }
}

}  // namespace dredger::fat

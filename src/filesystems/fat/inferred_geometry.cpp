#include "filesystems/fat/inferred_geometry.h"

#include <algorithm>

#include "filesystems/fat/folder_grid.h"

namespace dredger::fat {
namespace {

constexpr std::size_t kSector = 512;
constexpr std::uint64_t kMaxReserved = 8 << 20;  // bytes before the first table
constexpr std::uint64_t kMaxTable = 64 << 20;    // bytes of one, and of what is searched for the second

constexpr unsigned kMaxTried = 16;  // places that may be the first table

struct Tables {
    std::uint64_t first, second;  // bytes, on the volume
    Width width;
};

// By the first two entries of a table: the media byte and ones, as wide as an entry is.
std::optional<Width> width_at(ByteView view, std::size_t at) {
    const auto byte = [&](std::size_t i) { return view.u8(at + i).value_or(0); };
    if (byte(0) < 0xF0 || (byte(0) > 0xF0 && byte(0) < 0xF8) || byte(1) != 0xFF || byte(2) != 0xFF) return std::nullopt;
    if ((byte(3) & 0x0FU) == 0x0F && byte(4) == 0xFF && byte(5) == 0xFF && byte(6) == 0xFF && (byte(7) & 7U) == 7)
        return byte(3) == 0xFF && byte(7) == 0xFF ? std::nullopt : std::optional(Width::fat32);
    return byte(3) == 0xFF ? Width::fat16 : Width::fat12;
}

bool begin_alike(ByteView view, std::size_t a, std::size_t b) {
    const auto first = view.slice(a, kSector), second = view.slice(b, kSector);
    return first && second && std::equal(first->bytes().begin(), first->bytes().end(), second->bytes().begin());
}

std::optional<Tables> find_tables(const Medium& volume) {
    const auto bytes = volume.bytes(0, static_cast<std::size_t>(std::min(volume.size(), kMaxReserved + kMaxTable)));
    if (!bytes) return std::nullopt;
    const ByteView view(*bytes);
    unsigned tried = 0;
    for (std::size_t first = kSector; first < std::min<std::size_t>(view.size(), kMaxReserved); first += kSector) {
        const auto width = width_at(view, first);
        if (!width || ++tried > kMaxTried) continue;
        for (std::size_t second = first + kSector; second + kSector <= view.size(); second += kSector)
            if (width_at(view, second) == width && begin_alike(view, first, second))
                return Tables{first, second, *width};
    }
    return std::nullopt;
}

}  // namespace

std::optional<Geometry> infer_geometry(const Medium& volume) {
    const auto tables = find_tables(volume);
    if (!tables) return std::nullopt;
    Geometry g;
    g.width = tables->width;
    g.fat_offset = tables->first;
    g.fat_size = tables->second - tables->first;
    g.root_offset = tables->second + g.fat_size;
    const auto grid = grid_of(folder_starts(volume), g.root_offset);
    if (!grid || grid->data_offset >= volume.size()) return std::nullopt;
    g.cluster_size = grid->cluster_size;
    g.data_offset = grid->data_offset;
    // On FAT32 the first cluster follows the tables, on the others the root directory lies in between.
    const std::uint64_t between = g.data_offset - g.root_offset;
    const std::uint64_t most_entries = 65'536;
    if ((g.width == Width::fat32) != (between == 0) || between > most_entries * kEntrySize) return std::nullopt;
    g.root_entries = static_cast<std::uint32_t>(between / kEntrySize);
    g.root_cluster = g.width == Width::fat32 ? 2 : 0;
    const std::uint64_t bits = g.width == Width::fat32 ? 32 : g.width == Width::fat16 ? 16 : 12;
    g.cluster_count = static_cast<std::uint32_t>(
        std::min({(volume.size() - g.data_offset) / g.cluster_size, g.fat_size * 8 / bits - 2, kMaxClusters}));
    g.size = volume.size();
    g.warnings.emplace_back(
        "it has no boot sector any more: where its clusters lie was inferred from its tables and folders");
    return g;
}

}  // namespace dredger::fat

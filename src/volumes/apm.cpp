#include "volumes/apm.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/text.h"

namespace dredger::apm {
namespace {

constexpr std::uint32_t kMostEntries = 1024;

std::string text_of(const char (&field)[32]) {
    const std::string_view text(field, sizeof(field));
    return printable(text.substr(0, text.find('\0')));
}

std::string type_in_words(const std::string& type) {
    static constexpr std::pair<std::string_view, const char*> kKnown[] = {
        {"Apple_HFS", "HFS+"},
        {"Apple_HFSX", "HFSX"},
        {"Apple_APFS", "APFS"},
        {"Apple_UFS", "UFS"},
        {"Apple_CoreStorage", "CoreStorage"},
        {"Apple_RAID", "software RAID"},
        {"Apple_RAID_Offline", "software RAID"},
    };
    for (const auto& [known, words] : kKnown)
        if (known == type) return words;
    return "type " + type;
}

bool is_no_volume(const std::string& type) {
    return type == "Apple_partition_map" || type == "Apple_Free" || type == "Apple_Void" || type == "Apple_Scratch" ||
           type.starts_with("Apple_Driver") || type == "Apple_Patches" || type == "Apple_Boot" ||
           type == "ISO9660_data";  // what a disc holds around its volumes
}

std::optional<Partition> entry_at(const Medium& medium, std::uint64_t offset) {
    if (offset + sizeof(Partition) > medium.size()) return std::nullopt;
    const auto bytes = medium.bytes(offset, sizeof(Partition));
    if (!bytes || !ByteView(*bytes).has(0, "PM")) return std::nullopt;
    return *ByteView(*bytes).as<Partition>(0);
}

// Entries stand in blocks of the drive's size, which its first block tells; where that is lost, they show it.
std::uint64_t block_size_of(const Medium& medium) {
    const auto bytes = medium.size() >= sizeof(Block0) ? medium.bytes(0, sizeof(Block0))
                                                       : Result<std::vector<std::byte>>(std::vector<std::byte>());
    std::vector<std::uint64_t> sizes = {512, 1024, 2048, 4096};
    if (bytes && ByteView(*bytes).has(0, "ER"))
        if (const std::uint64_t told = ByteView(*bytes).as<Block0>(0)->sbBlkSize; told >= 512 && told % 512 == 0)
            sizes.insert(sizes.begin(), told);
    for (const std::uint64_t size : sizes) {
        const auto first = entry_at(medium, size);
        if (first && first->pmMapBlkCnt > 0 && first->pmMapBlkCnt <= kMostEntries) return size;
    }
    return 0;
}

}  // namespace

std::optional<PartitionMap> read(const Medium& medium) {
    const std::uint64_t block = block_size_of(medium);
    if (block == 0) return std::nullopt;
    PartitionMap map{TableKind::apm, {}, {}};
    const std::uint32_t count = entry_at(medium, block)->pmMapBlkCnt;
    bool has_itself = false;
    for (std::uint64_t n = 1; n <= count; ++n) {
        const auto entry = entry_at(medium, n * block);
        if (!entry) {
            map.warnings.push_back(fmt::format("entry {} of the Apple partition map is damaged and left out", n));
            continue;
        }
        const std::string type = text_of(entry->pmParType);
        has_itself = has_itself || type == "Apple_partition_map";
        if (is_no_volume(type) || entry->pmPartBlkCnt == 0) continue;
        Volume volume;
        volume.offset = entry->pmPyPartStart * block;
        volume.length = entry->pmPartBlkCnt * block;
        volume.table = TableKind::apm;
        volume.type = type_in_words(type);
        volume.name = text_of(entry->pmPartName);
        map.volumes.push_back(std::move(volume));
    }
    return has_itself ? std::optional(std::move(map)) : std::nullopt;
}

}  // namespace dredger::apm

#include "filesystems/fat/geometry.h"

#include <algorithm>
#include <bit>
#include <fmt/format.h>

#include "filesystems/fat/structures.h"

namespace dredger::fat {
namespace {

// The specification's limits, which every driver keeps to.
constexpr std::uint64_t kFat12Clusters = 4085;
constexpr std::uint64_t kFat16Clusters = 65525;

bool plausible(const BootSector& b) {
    const std::uint32_t sector = b.BPB_BytsPerSec;
    const bool jump = b.BS_jmpBoot[0] == 0xEB || b.BS_jmpBoot[0] == 0xE9;
    return jump && std::has_single_bit(sector) && sector >= 512 && sector <= 4096 &&
           std::has_single_bit(unsigned{b.BPB_SecPerClus}) && b.BPB_RsvdSecCnt != 0 && b.BPB_NumFATs >= 1 &&
           b.BPB_NumFATs <= 4 && b.BPB_Media >= 0xF0 && (b.BPB_TotSec16 != 0 || b.BPB_TotSec32 != 0);
}

std::uint64_t entries_in(Width width, std::uint64_t bytes) {
    switch (width) {
        case Width::fat12: return bytes * 2 / 3;
        case Width::fat16: return bytes / 2;
        case Width::fat32: break;
    }
    return bytes / 4;
}

std::string label_text(const char (&label)[11]) {
    std::string text(std::begin(label), std::end(label));
    text.erase(std::min(text.find('\0'), text.size()));
    while (text.ends_with(' ')) text.pop_back();
    return text == "NO NAME" ? "" : text;
}

}  // namespace

const char* Geometry::name() const {
    switch (width) {
        case Width::fat12: return "FAT12";
        case Width::fat16: return "FAT16";
        case Width::fat32: break;
    }
    return "FAT32";
}

std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t volume_size) {
    const auto boot = sector.as<BootSector>(0);
    const auto boot16 = sector.as<BootSector16>(sizeof(BootSector));
    const auto boot32 = sector.as<BootSector32>(sizeof(BootSector));
    if (!boot || !boot16 || !boot32 || !plausible(*boot)) return std::nullopt;

    Geometry g;
    g.sector_size = boot->BPB_BytsPerSec;
    g.cluster_size = std::uint64_t{g.sector_size} * boot->BPB_SecPerClus;
    g.fat_offset = std::uint64_t{boot->BPB_RsvdSecCnt} * g.sector_size;
    g.fat_count = boot->BPB_NumFATs;
    const std::uint64_t fat_sectors = boot->BPB_FATSz16 != 0 ? boot->BPB_FATSz16.value() : boot32->BPB_FATSz32.value();
    g.fat_size = fat_sectors * g.sector_size;
    g.root_offset = g.fat_offset + g.fat_count * g.fat_size;
    g.root_entries = boot->BPB_RootEntCnt;
    const std::uint64_t root_sectors = divide_up(g.root_entries * kEntrySize, g.sector_size);
    g.data_offset = g.root_offset + root_sectors * g.sector_size;
    const std::uint64_t sectors = boot->BPB_TotSec16 != 0 ? boot->BPB_TotSec16.value() : boot->BPB_TotSec32.value();
    g.size = sectors * g.sector_size;
    if (fat_sectors == 0 || g.data_offset >= g.size) return std::nullopt;

    const std::uint64_t clusters = (g.size - g.data_offset) / g.cluster_size;
    // Without the fields of the older FATs it can only be FAT32, however few its clusters: formatting programs make
    // such volumes when told to, and drivers take them.
    const bool only_fat32 = boot->BPB_FATSz16 == 0 && boot->BPB_RootEntCnt == 0;
    g.width = only_fat32 || clusters >= kFat16Clusters ? Width::fat32
              : clusters >= kFat12Clusters             ? Width::fat16
                                                       : Width::fat12;
    if (g.width == Width::fat32) {
        g.root_cluster = boot32->BPB_RootClus;
        g.mirrored = (boot32->BPB_ExtFlags & 0x80) == 0;
        if (!g.mirrored) g.active_fat = std::min(boot32->BPB_ExtFlags & 0x0FU, g.fat_count - 1);
        g.volume_id = boot32->BS_VolID;
        g.label = label_text(boot32->BS_VolLab);
    } else if (boot16->BS_BootSig == 0x29) {
        g.volume_id = boot16->BS_VolID;
        g.label = label_text(boot16->BS_VolLab);
    }

    std::uint64_t usable = std::min(clusters, kMaxClusters);
    if (const std::uint64_t entries = entries_in(g.width, g.fat_size); entries < usable + 2) {
        g.warnings.push_back(fmt::format("the boot sector promises {} clusters, the FAT has entries for {}", usable,
                                         entries > 2 ? entries - 2 : 0));
        usable = entries > 2 ? entries - 2 : 0;
    }
    const std::uint64_t there = volume_size > g.data_offset ? (volume_size - g.data_offset) / g.cluster_size : 0;
    if (there < usable) {
        g.warnings.push_back(
            fmt::format("{} of {} clusters lie beyond the end of what can be read", usable - there, usable));
        usable = there;
    }
    g.cluster_count = static_cast<std::uint32_t>(usable);
    return g;
}

}  // namespace dredger::fat

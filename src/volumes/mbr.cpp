#include "volumes/mbr.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <set>

#include "base/bytes.h"

namespace dredger::mbr {
namespace {

constexpr std::size_t kTableOffset = 446;
using Table = std::array<PartitionRecord, 4>;

bool is_extended(std::uint8_t type) { return type == 0x05 || type == 0x0F || type == 0x85; }

std::string type_in_words(std::uint8_t type) {
    switch (type) {
        case 0x01: return "FAT12";
        case 0x04:
        case 0x06:
        case 0x0E: return "FAT16";
        case 0x0B:
        case 0x0C: return "FAT32";
        case 0x07: return "NTFS or exFAT";
        case 0x11:
        case 0x14:
        case 0x16:
        case 0x17:
        case 0x1B:
        case 0x1C:
        case 0x1E: return "hidden FAT or NTFS";
        case 0x27: return "recovery";
        case 0x82: return "Linux swap";
        case 0x83: return "Linux";
        case 0x8E: return "Linux LVM";
        case 0xAF: return "HFS+";
        case 0xEF: return "EFI system";
        case 0xFD: return "Linux RAID";
        default: return fmt::format("type {:02X}", type);
    }
}

std::optional<Table> table_at(const Medium& medium, std::uint64_t offset) {
    const auto sector = medium.bytes(offset, 512);
    if (!sector) return std::nullopt;
    const ByteView view(*sector, offset);
    if (!view.has(510, "\x55\xAA")) return std::nullopt;
    const auto table = view.as<Table>(kTableOffset);
    return table ? std::optional(*table) : std::nullopt;
}

bool overlap(const PartitionRecord& a, const PartitionRecord& b) {
    return a.StartingLBA < std::uint64_t{b.StartingLBA} + b.SizeInLBA &&
           b.StartingLBA < std::uint64_t{a.StartingLBA} + a.SizeInLBA;
}

// Of a medium that was cut, some partitions may begin beyond its end, but not all; and they are in order otherwise.
bool plausible(const Table& table, std::uint64_t medium_sectors) {
    std::vector<PartitionRecord> used;
    for (const PartitionRecord& record : table) {
        if ((record.BootIndicator & 0x7F) != 0) return false;
        if (record.OSType == 0) continue;
        // A partition that starts with the table itself is how some tools dress up an unpartitioned medium.
        if (record.StartingLBA == 0 || record.SizeInLBA == 0) return false;
        used.push_back(record);
    }
    const auto begins_beyond = [&](const PartitionRecord& r) { return r.StartingLBA >= medium_sectors; };
    if (std::none_of(used.begin(), used.end(), begins_beyond)) return !used.empty();
    for (std::size_t i = 0; i < used.size(); ++i)
        for (std::size_t k = i + 1; k < used.size(); ++k)
            if (overlap(used[i], used[k])) return false;
    return !std::all_of(used.begin(), used.end(), begins_beyond);
}

class Reader {
  public:
    explicit Reader(const Medium& medium) : medium_(medium), sector_(medium.sector_size()) {
        map_.table = TableKind::mbr;
    }

    PartitionMap read(const Table& table) {
        for (const PartitionRecord& record : table) {
            if (record.OSType == 0) continue;
            if (is_extended(record.OSType))
                follow_chain(std::uint64_t{record.StartingLBA} * sector_);
            else
                add(record, 0);
        }
        return std::move(map_);
    }

  private:
    void add(const PartitionRecord& record, std::uint64_t base) {
        Volume volume;
        volume.offset = base + std::uint64_t{record.StartingLBA} * sector_;
        volume.length = std::uint64_t{record.SizeInLBA} * sector_;
        volume.table = TableKind::mbr;
        volume.type = type_in_words(record.OSType);
        map_.volumes.push_back(std::move(volume));
    }

    // Each link of the chain has one logical partition (relative to the link) and the next link (relative to the
    // first). A chain visits no sector twice.
    void follow_chain(std::uint64_t first) {
        std::set<std::uint64_t> visited;
        for (std::uint64_t link = first; visited.insert(link).second;) {
            const auto table = table_at(medium_, link);
            if (!table) {
                map_.warnings.push_back(fmt::format("the chain of logical partitions breaks at offset {}", link));
                return;
            }
            std::uint64_t next = 0;
            for (const PartitionRecord& record : *table) {
                if (record.OSType == 0 || record.SizeInLBA == 0) continue;
                if (is_extended(record.OSType))
                    next = first + std::uint64_t{record.StartingLBA} * sector_;
                else
                    add(record, link);
            }
            if (next == 0) return;
            link = next;
        }
        map_.warnings.push_back(fmt::format("the chain of logical partitions at offset {} runs in a circle", first));
    }

    const Medium& medium_;
    std::uint64_t sector_;
    PartitionMap map_;
};

}  // namespace

std::optional<PartitionMap> read(const Medium& medium) {
    const auto table = table_at(medium, 0);
    if (!table || !plausible(*table, medium.size() / medium.sector_size())) return std::nullopt;
    return Reader(medium).read(*table);
}

bool is_protective(const Medium& medium) {
    const auto table = table_at(medium, 0);
    if (!table) return false;
    for (const PartitionRecord& record : *table)
        if (record.OSType == kProtective) return true;
    return false;
}

}  // namespace dredger::mbr

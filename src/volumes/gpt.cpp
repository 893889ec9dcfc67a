#include "volumes/gpt.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "base/bytes.h"
#include "base/digest.h"
#include "base/text.h"

namespace dredger::gpt {
namespace {

constexpr std::uint32_t kMaxEntries = 4096;  // tables in use have 128

std::string guid_text(const std::uint8_t (&g)[16]) {
    return fmt::format("{:02X}{:02X}{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}-{:02X}", g[3], g[2], g[1], g[0],
                       g[5], g[4], g[7], g[6], g[8], g[9], fmt::join(g + 10, g + 16, ""));
}

std::string type_in_words(const std::string& guid) {
    static const std::map<std::string_view, const char*> kKnown = {
        {"EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "basic data"},
        {"C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "EFI system"},
        {"E3C9E316-0B5C-4DB8-817D-F92DF00215AE", "reserved"},
        {"DE94BBA4-06D1-4D40-A16A-BFD50179D6AC", "recovery"},
        {"0FC63DAF-8483-4772-8E79-3D69D8477DE4", "Linux"},
        {"0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", "Linux swap"},
        {"E6D6D379-F507-44C2-A23C-238F2A3DF928", "Linux LVM"},
        {"A19D880F-05FC-4D3B-A006-743F0F84911E", "Linux RAID"},
        {"48465300-0000-11AA-AA11-00306543ECAC", "HFS+"},
        {"7C3457EF-0000-11AA-AA11-00306543ECAC", "APFS"},
        {"53746F72-6167-11AA-AA11-00306543ECAC", "CoreStorage"},
        {"52414944-0000-11AA-AA11-00306543ECAC", "software RAID"},
        {"52414944-5F4F-11AA-AA11-00306543ECAC", "software RAID"},
        {"426F6F74-0000-11AA-AA11-00306543ECAC", "boot"},
    };
    const auto known = kKnown.find(guid);
    return known != kKnown.end() ? known->second : "type " + guid;
}

std::string name_of(const PartitionEntry& entry) {
    std::u16string name;
    for (const auto& unit : entry.PartitionName) {
        if (unit == 0) break;
        name += static_cast<char16_t>(unit.value());
    }
    return printable(utf16_to_utf8(name));
}

// The table whose header stands in sector `lba`, where both its checksums hold.
std::optional<PartitionMap> table_at(const Medium& medium, std::uint64_t lba, std::uint64_t sector) {
    auto block = medium.bytes(lba * sector, static_cast<std::size_t>(sector));
    if (!block) return std::nullopt;
    const ByteView view(*block, lba * sector);
    const auto header = view.as<Header>(0);
    if (!header || !view.has(0, "EFI PART") || header->MyLBA != lba) return std::nullopt;
    if (header->HeaderSize < sizeof(Header) || header->HeaderSize > sector) return std::nullopt;
    // The checksum is taken with its own field zero.
    std::vector<std::byte> plain(block->begin(),
                                 block->begin() + static_cast<std::ptrdiff_t>(header->HeaderSize.value()));
    std::fill_n(plain.begin() + 16, 4, std::byte{0});
    if (crc32(plain) != header->HeaderCRC32) return std::nullopt;

    const std::uint32_t entry_size = header->SizeOfPartitionEntry;
    const std::uint32_t count = header->NumberOfPartitionEntries;
    const auto entries_at = checked_mul(header->PartitionEntryLBA, sector);
    if (entry_size < sizeof(PartitionEntry) || entry_size > 4096 || count > kMaxEntries || !entries_at)
        return std::nullopt;
    const auto entries = medium.bytes(*entries_at, std::size_t{entry_size} * count);
    if (!entries || crc32(*entries) != header->PartitionEntryArrayCRC32) return std::nullopt;

    PartitionMap map{TableKind::gpt, {}, {}};
    const ByteView list(*entries, *entries_at);
    for (std::size_t n = 0; n < count; ++n) {
        const PartitionEntry entry =
            list.as<PartitionEntry>(n * entry_size).value();  // the array holds `count` of them
        if (ByteView(std::as_bytes(std::span(entry.PartitionTypeGUID))).is_uniform() && entry.PartitionTypeGUID[0] == 0)
            continue;
        const auto offset = checked_mul(entry.StartingLBA, sector);
        const auto after = checked_mul(entry.EndingLBA.value() + 1, sector);
        if (!offset || !after || *after <= *offset) {
            map.warnings.push_back(fmt::format("GPT entry {} ends before it starts and is left out", n + 1));
            continue;
        }
        Volume volume;
        volume.offset = *offset;
        volume.length = *after - *offset;
        volume.table = TableKind::gpt;
        volume.type = type_in_words(guid_text(entry.PartitionTypeGUID));
        volume.name = name_of(entry);
        map.volumes.push_back(std::move(volume));
    }
    return map;
}

}  // namespace

std::optional<PartitionMap> read(const Medium& medium) {
    // An image does not tell the sector size of the drive it was taken from.
    for (const std::uint64_t sector : {std::uint64_t{512}, std::uint64_t{4096}}) {
        if (medium.size() < 4 * sector) continue;
        if (auto primary = table_at(medium, 1, sector)) return primary;
        if (auto backup = table_at(medium, medium.size() / sector - 1, sector)) {
            backup->warnings.emplace_back(
                "the GPT at the start is damaged; its backup at the end of the medium is used");
            return backup;
        }
    }
    return std::nullopt;
}

}  // namespace dredger::gpt

#include "volumes/md.h"

#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/checked.h"
#include "base/text.h"
#include "volumes/trace.h"

namespace dredger::md {
namespace {

using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

constexpr std::uint32_t MD_SB_MAGIC = 0xA92B4EFC;
constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kOldReserved = 64 << 10;  // MD_RESERVED_BYTES, of version 0.90

struct SuperBlock1 {  // mdp_superblock_1, up to what is read here
    little_uint32_t magic;
    little_uint32_t major_version;
    little_uint32_t feature_map;
    little_uint32_t pad0;
    std::byte set_uuid[16];
    char set_name[32];
    little_uint64_t ctime;
    little_uint32_t level;
    little_uint32_t layout;
    little_uint64_t size;  // sectors
    little_uint32_t chunksize;
    little_uint32_t raid_disks;
    std::byte reshape[32];
    little_uint64_t data_offset;   // sectors
    little_uint64_t data_size;     // sectors
    little_uint64_t super_offset;  // sectors
};
static_assert(sizeof(SuperBlock1) == 152);

struct SuperBlock0 {  // mdp_super_t, from its start
    little_uint32_t md_magic;
    little_uint32_t major_version;
    little_uint32_t minor_version;
    little_uint32_t patch_version;
    little_uint32_t gvalid_words;
    little_uint32_t set_uuid0;
    little_uint32_t ctime;
    little_uint32_t level;
    little_uint32_t size;
    little_uint32_t nr_disks;
    little_uint32_t raid_disks;
};

std::string level_name(std::uint32_t level) {
    const auto number = static_cast<std::int32_t>(level);
    return number == -1 ? "linear" : number < 0 ? "of an unknown kind" : fmt::format("RAID{}", number);
}

Container container_of(std::uint32_t level, std::uint32_t disks, const std::string& name, std::uint64_t offset,
                       std::uint64_t length) {
    Container container;
    container.type = fmt::format("member of software RAID ({}, {} disks{}{})", level_name(level), disks,
                                 name.empty() ? "" : ", ", name);
    const bool is_whole_here = level == 1 || disks == 1;
    if (!is_whole_here) {
        container.remarks.push_back(
            fmt::format("it holds a part of a {} over {} disks only: image the others too, assemble them read-only "
                        "(mdadm --assemble --readonly) and scan the array",
                        level_name(level), disks));
    } else if (offset > 0) {
        Volume volume;
        volume.offset = offset;
        volume.length = length;
        volume.type = level_name(level);
        volume.name = name;
        container.volumes.push_back(std::move(volume));
    }
    return container;
}

std::optional<Container> version_1(const Medium& volume, std::uint64_t at) {
    const auto bytes = bytes_at(volume, at, sizeof(SuperBlock1));
    if (!bytes) return std::nullopt;
    const auto sb = *ByteView(*bytes).as<SuperBlock1>(0);
    if (sb.magic != MD_SB_MAGIC || sb.major_version != 1 || sb.super_offset != at / kSector || sb.raid_disks == 0)
        return std::nullopt;
    const auto offset = checked_mul(sb.data_offset, kSector), length = checked_mul(sb.data_size, kSector);
    if (!offset || !length || *offset >= volume.size()) return std::nullopt;
    const std::string name(sb.set_name, sizeof sb.set_name);
    return container_of(sb.level, sb.raid_disks, printable(name.substr(0, name.find('\0'))), *offset,
                        std::min(*length, volume.size() - *offset));
}

std::optional<Container> version_0(const Medium& volume) {
    if (volume.size() < 2 * kOldReserved) return std::nullopt;
    const std::uint64_t at = volume.size() / kOldReserved * kOldReserved - kOldReserved;
    const auto bytes = bytes_at(volume, at, sizeof(SuperBlock0));
    if (!bytes) return std::nullopt;
    const auto sb = *ByteView(*bytes).as<SuperBlock0>(0);
    if (sb.md_magic != MD_SB_MAGIC || sb.major_version != 0 || sb.raid_disks == 0) return std::nullopt;
    return container_of(sb.level, sb.raid_disks, "", 0, volume.size());
}

}  // namespace

std::optional<Container> look(const Medium& volume) {
    // 1.1 at the start, 1.2 behind 4 KiB, 1.0 and 0.90 at the end.
    for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{4096}})
        if (auto found = version_1(volume, at)) return found;
    const std::uint64_t sectors = volume.size() / kSector;
    if (sectors > 16)
        if (auto found = version_1(volume, ((sectors - 16) & ~std::uint64_t{7}) * kSector)) return found;
    return version_0(volume);
}

}  // namespace dredger::md

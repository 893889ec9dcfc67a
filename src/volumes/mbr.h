// Master boot record and extended partitions. Structure: the PC partition table as in the UEFI specification 2.10,
// section 5.2.1 "Legacy Master Boot Record"; extended chains as used by MS-DOS since 3.3.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <optional>

#include "volumes/volume.h"

namespace dredger::mbr {

struct PartitionRecord {
    std::uint8_t BootIndicator;  // 0x80 or 0
    std::uint8_t StartHead;
    std::uint8_t StartSector;
    std::uint8_t StartTrack;
    std::uint8_t OSType;  // 0: unused
    std::uint8_t EndHead;
    std::uint8_t EndSector;
    std::uint8_t EndTrack;
    boost::endian::little_uint32_t StartingLBA;
    boost::endian::little_uint32_t SizeInLBA;
};
static_assert(sizeof(PartitionRecord) == 16);

constexpr std::uint8_t kProtective = 0xEE;

// The table of `medium`, or nothing where its first sector holds none. A GPT's protective record counts as a table.
std::optional<PartitionMap> read(const Medium& medium);

// Whether the first sector has a protective record for a GPT.
bool is_protective(const Medium& medium);

}  // namespace dredger::mbr

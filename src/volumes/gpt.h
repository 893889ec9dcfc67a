// GUID partition table. Structures and checks: UEFI specification 2.10, section 5.3.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <optional>

#include "volumes/volume.h"

namespace dredger::gpt {

struct Header {
    char Signature[8];  // "EFI PART"
    boost::endian::little_uint32_t Revision;
    boost::endian::little_uint32_t HeaderSize;  // 92 .. sector size
    boost::endian::little_uint32_t HeaderCRC32;
    boost::endian::little_uint32_t Reserved;
    boost::endian::little_uint64_t MyLBA;
    boost::endian::little_uint64_t AlternateLBA;
    boost::endian::little_uint64_t FirstUsableLBA;
    boost::endian::little_uint64_t LastUsableLBA;
    std::uint8_t DiskGUID[16];
    boost::endian::little_uint64_t PartitionEntryLBA;
    boost::endian::little_uint32_t NumberOfPartitionEntries;
    boost::endian::little_uint32_t SizeOfPartitionEntry;  // 128 * 2^n
    boost::endian::little_uint32_t PartitionEntryArrayCRC32;
};
static_assert(sizeof(Header) == 92);

struct PartitionEntry {
    std::uint8_t PartitionTypeGUID[16];  // all zero: unused
    std::uint8_t UniquePartitionGUID[16];
    boost::endian::little_uint64_t StartingLBA;
    boost::endian::little_uint64_t EndingLBA;  // inclusive
    boost::endian::little_uint64_t Attributes;
    boost::endian::little_uint16_t PartitionName[36];  // UTF-16, zero-terminated where shorter
};
static_assert(sizeof(PartitionEntry) == 128);

// The table of `medium`: the primary one, or the backup at the medium's end where the primary's checksums don't hold.
// Nothing where neither is there.
std::optional<PartitionMap> read(const Medium& medium);

}  // namespace dredger::gpt

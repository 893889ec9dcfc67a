// On-disk structures of exFAT, named and ordered as in Microsoft's "exFAT file system specification", revision 1.00.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstdint>

namespace dredger::exfat {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

// 3.1. Eleven more sectors follow; the last holds a checksum of the others, and then all twelve stand once more.
struct BootSector {
    std::uint8_t JumpBoot[3];
    char FileSystemName[8];  // "EXFAT   "
    std::uint8_t MustBeZero[53];
    little_uint64_t PartitionOffset;
    little_uint64_t VolumeLength;       // sectors
    little_uint32_t FatOffset;          // sectors
    little_uint32_t FatLength;          // sectors
    little_uint32_t ClusterHeapOffset;  // sectors
    little_uint32_t ClusterCount;
    little_uint32_t FirstClusterOfRootDirectory;
    little_uint32_t VolumeSerialNumber;
    little_uint16_t FileSystemRevision;
    little_uint16_t VolumeFlags;
    std::uint8_t BytesPerSectorShift;     // 9 .. 12
    std::uint8_t SectorsPerClusterShift;  // clusters have at most 32 MiB
    std::uint8_t NumberOfFats;            // 1, or 2 with TexFAT
    std::uint8_t DriveSelect;
    std::uint8_t PercentInUse;
    std::uint8_t Reserved[7];
};
static_assert(sizeof(BootSector) == 120);
constexpr std::size_t kBootRegionSectors = 12;
constexpr std::uint16_t kActiveFat = 0x0001;  // bits of VolumeFlags
constexpr std::uint16_t kVolumeDirty = 0x0002;

// 4.1
constexpr std::uint32_t kFatBad = 0xFFFFFFF7;
constexpr std::uint32_t kFatEnd = 0xFFFFFFFF;

// 6.2.1: the type of a directory entry. Deletion clears the highest bit.
constexpr std::uint8_t kInUse = 0x80;
constexpr std::uint8_t kEndOfDirectory = 0x00;
constexpr std::uint8_t kAllocationBitmap = 0x81;
constexpr std::uint8_t kUpcaseTable = 0x82;
constexpr std::uint8_t kVolumeLabel = 0x83;
constexpr std::uint8_t kFile = 0x85;
constexpr std::uint8_t kVolumeGuid = 0xA0;
constexpr std::uint8_t kStreamExtension = 0xC0;
constexpr std::uint8_t kFileName = 0xC1;
constexpr std::size_t kEntrySize = 32;
constexpr std::size_t kLongestSet = 19;                    // entries: a file, its stream, 17 pieces of its name
constexpr std::uint64_t kLargestDirectory = 256ULL << 20;  // bytes

struct AllocationBitmapEntry {
    std::uint8_t EntryType;
    std::uint8_t BitmapFlags;  // bit 0: which FAT it belongs to
    std::uint8_t Reserved[18];
    little_uint32_t FirstCluster;
    little_uint64_t DataLength;
};
static_assert(sizeof(AllocationBitmapEntry) == kEntrySize);

struct UpcaseTableEntry {
    std::uint8_t EntryType;
    std::uint8_t Reserved1[3];
    little_uint32_t TableChecksum;
    std::uint8_t Reserved2[12];
    little_uint32_t FirstCluster;
    little_uint64_t DataLength;
};
static_assert(sizeof(UpcaseTableEntry) == kEntrySize);

struct VolumeLabelEntry {
    std::uint8_t EntryType;
    std::uint8_t CharacterCount;  // 0 .. 11
    std::uint8_t VolumeLabel[22];
    std::uint8_t Reserved[8];
};
static_assert(sizeof(VolumeLabelEntry) == kEntrySize);

struct VolumeGuidEntry {
    std::uint8_t EntryType;
    std::uint8_t SecondaryCount;
    little_uint16_t SetChecksum;
    little_uint16_t GeneralPrimaryFlags;
    std::uint8_t VolumeGuid[16];
    std::uint8_t Reserved[10];
};
static_assert(sizeof(VolumeGuidEntry) == kEntrySize);

struct FileEntry {
    std::uint8_t EntryType;
    std::uint8_t SecondaryCount;  // 2 .. 18
    little_uint16_t SetChecksum;
    little_uint16_t FileAttributes;
    little_uint16_t Reserved1;
    little_uint32_t CreateTimestamp;
    little_uint32_t LastModifiedTimestamp;
    little_uint32_t LastAccessedTimestamp;
    std::uint8_t Create10msIncrement;
    std::uint8_t LastModified10msIncrement;
    std::uint8_t CreateUtcOffset;
    std::uint8_t LastModifiedUtcOffset;
    std::uint8_t LastAccessedUtcOffset;
    std::uint8_t Reserved2[7];
};
static_assert(sizeof(FileEntry) == kEntrySize);
constexpr std::uint16_t kReadOnly = 0x01;
constexpr std::uint16_t kHidden = 0x02;
constexpr std::uint16_t kSystem = 0x04;
constexpr std::uint16_t kDirectory = 0x10;

struct StreamExtensionEntry {
    std::uint8_t EntryType;
    std::uint8_t GeneralSecondaryFlags;
    std::uint8_t Reserved1;
    std::uint8_t NameLength;   // UTF-16 units
    little_uint16_t NameHash;  // of the name in upper case
    little_uint16_t Reserved2;
    little_uint64_t ValidDataLength;  // bytes that were written; zeros follow
    little_uint32_t Reserved3;
    little_uint32_t FirstCluster;
    little_uint64_t DataLength;  // bytes
};
static_assert(sizeof(StreamExtensionEntry) == kEntrySize);
constexpr std::uint8_t kNoFatChain = 0x02;  // its clusters follow each other, and the FAT says nothing of them

struct FileNameEntry {
    std::uint8_t EntryType;
    std::uint8_t GeneralSecondaryFlags;
    std::uint8_t FileName[30];  // 15 UTF-16 units
};
static_assert(sizeof(FileNameEntry) == kEntrySize);

}  // namespace dredger::exfat

// On-disk structures of NTFS 3.x. Names, order and meaning follow "Master File Table" of Microsoft's developer notes
// (FILE_RECORD_SEGMENT_HEADER, ATTRIBUTE_RECORD_HEADER, FILE_NAME ...), [MS-FSCC] for file attributes, reparse tags and
// USN records, and the Linux-NTFS project's documentation where these are silent.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstdint>

namespace dredger::ntfs {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

struct BootSector {
    std::uint8_t Jump[3];
    char Oem[8];  // "NTFS    "
    little_uint16_t BytesPerSector;
    std::uint8_t SectorsPerCluster;  // from 0x80 on: 2 to the power of (256 - value)
    little_uint16_t ReservedSectors;
    std::uint8_t Fats;
    little_uint16_t RootEntries;
    little_uint16_t Sectors;
    std::uint8_t Media;
    little_uint16_t SectorsPerFat;
    little_uint16_t SectorsPerTrack;
    little_uint16_t Heads;
    little_uint32_t HiddenSectors;
    little_uint32_t LargeSectors;
    std::uint8_t Unused[4];
    little_uint64_t NumberSectors;  // without the last one, which holds the boot sector's copy
    little_uint64_t MftStartLcn;
    little_uint64_t Mft2StartLcn;              // of $MFTMirr
    std::int8_t ClustersPerFileRecordSegment;  // negative: 2 to the power of (-value) bytes
    std::uint8_t Reserved0[3];
    std::int8_t DefaultClustersPerIndexAllocationBuffer;  // likewise
    std::uint8_t Reserved1[3];
    little_uint64_t SerialNumber;
    little_uint32_t Checksum;
};
static_assert(sizeof(BootSector) == 84);

// Names a record in one of its lives: each time a record is given to another file its sequence number rises.
struct MftSegmentReference {
    little_uint32_t SegmentNumberLowPart;
    little_uint16_t SegmentNumberHighPart;
    little_uint16_t SequenceNumber;

    std::uint64_t number() const { return std::uint64_t{SegmentNumberHighPart} << 32 | SegmentNumberLowPart; }
};
static_assert(sizeof(MftSegmentReference) == 8);

// At the start of records and index blocks. The last two bytes of each 512 are swapped out into the update sequence
// array, whose first element stands in their place.
struct MultiSectorHeader {
    char Signature[4];                          // "FILE", "INDX"; "BAAD" where Windows found it torn
    little_uint16_t UpdateSequenceArrayOffset;  // bytes
    little_uint16_t UpdateSequenceArraySize;    // elements: one more than sectors
};
constexpr std::size_t kFixupStride = 512;  // bytes, whatever the sector size is

struct FileRecordSegmentHeader {
    MultiSectorHeader MultiSector;
    little_uint64_t LogFileSequenceNumber;
    little_uint16_t SequenceNumber;
    little_uint16_t ReferenceCount;  // hard links
    little_uint16_t FirstAttributeOffset;
    little_uint16_t Flags;
    little_uint32_t FirstFreeByte;              // bytes in use
    little_uint32_t BytesAvailable;             // bytes of the record
    MftSegmentReference BaseFileRecordSegment;  // 0, but in records that continue another one
    little_uint16_t NextAttributeInstance;
    little_uint16_t SegmentNumberHighPart;  // this and the next since Windows XP
    little_uint32_t SegmentNumberLowPart;
};
static_assert(sizeof(FileRecordSegmentHeader) == 48);
constexpr std::uint16_t FILE_RECORD_SEGMENT_IN_USE = 0x0001;
constexpr std::uint16_t FILE_NAME_INDEX_PRESENT = 0x0002;  // a folder

enum AttributeTypeCode : std::uint32_t {
    STANDARD_INFORMATION = 0x10,
    ATTRIBUTE_LIST = 0x20,
    FILE_NAME = 0x30,
    VOLUME_NAME = 0x60,
    VOLUME_INFORMATION = 0x70,
    DATA = 0x80,
    INDEX_ROOT = 0x90,
    INDEX_ALLOCATION = 0xA0,
    BITMAP = 0xB0,
    REPARSE_POINT = 0xC0,
    END = 0xFFFFFFFF,
};

struct AttributeRecordHeader {
    little_uint32_t TypeCode;
    little_uint32_t RecordLength;  // bytes, a multiple of 8
    std::uint8_t FormCode;         // 0: resident
    std::uint8_t NameLength;       // UTF-16 units
    little_uint16_t NameOffset;
    little_uint16_t Flags;
    little_uint16_t Instance;
};
static_assert(sizeof(AttributeRecordHeader) == 16);
constexpr std::uint16_t ATTRIBUTE_FLAG_COMPRESSION_MASK = 0x00FF;
constexpr std::uint16_t ATTRIBUTE_FLAG_ENCRYPTED = 0x4000;

// Behind AttributeRecordHeader.
struct ResidentForm {
    little_uint32_t ValueLength;
    little_uint16_t ValueOffset;  // from the attribute's start
    std::uint8_t Reserved[2];
};

// Behind AttributeRecordHeader. The sizes stand only in the piece with LowestVcn 0.
struct NonresidentForm {
    little_uint64_t LowestVcn;
    little_uint64_t HighestVcn;
    little_uint16_t MappingPairsOffset;  // from the attribute's start
    std::uint8_t CompressionUnit;        // 2 to the power of it clusters are packed together; 0: not packed
    std::uint8_t Reserved[5];
    little_uint64_t AllocatedLength;
    little_uint64_t FileSize;
    little_uint64_t ValidDataLength;
};
static_assert(sizeof(NonresidentForm) == 48);

struct StandardInformation {
    little_uint64_t CreationTime;  // these four: FILETIME
    little_uint64_t LastModificationTime;
    little_uint64_t LastChangeTime;  // of the record
    little_uint64_t LastAccessTime;
    little_uint32_t FileAttributes;  // [MS-FSCC] 2.6
};
constexpr std::uint32_t kDupFileNameIndexPresent = 0x10000000;  // in a file name: it is a folder

struct AttributeListEntry {
    little_uint32_t AttributeTypeCode;
    little_uint16_t RecordLength;
    std::uint8_t AttributeNameLength;
    std::uint8_t AttributeNameOffset;
    little_uint64_t LowestVcn;
    MftSegmentReference SegmentReference;
    little_uint16_t Instance;
};
static_assert(sizeof(AttributeListEntry) == 26);

struct FileName {
    MftSegmentReference ParentDirectory;
    little_uint64_t CreationTime;  // these four: FILETIME; as they were when the name was given, mostly
    little_uint64_t LastModificationTime;
    little_uint64_t LastChangeTime;
    little_uint64_t LastAccessTime;
    little_uint64_t AllocatedLength;
    little_uint64_t FileSize;
    little_uint32_t FileAttributes;
    little_uint32_t ReparseTag;
    std::uint8_t FileNameLength;  // UTF-16 units; they follow
    std::uint8_t Flags;           // the name space
};
static_assert(sizeof(FileName) == 66);
constexpr std::uint8_t FILE_NAME_POSIX = 0;
constexpr std::uint8_t FILE_NAME_WIN32 = 1;
constexpr std::uint8_t FILE_NAME_DOS = 2;  // the short name beside a long one
constexpr std::uint8_t FILE_NAME_WIN32_AND_DOS = 3;

struct IndexHeader {
    little_uint32_t FirstIndexEntry;  // bytes from the start of this structure
    little_uint32_t FirstFreeByte;
    little_uint32_t BytesAvailable;
    std::uint8_t Flags;
    std::uint8_t Reserved[3];
};
static_assert(sizeof(IndexHeader) == 16);

struct IndexAllocationBuffer {
    MultiSectorHeader MultiSector;  // "INDX"
    little_uint64_t LogFileSequenceNumber;
    little_uint64_t ThisBlock;
    IndexHeader Index;
};
static_assert(sizeof(IndexAllocationBuffer) == 40);

// Before the FileName in an index of names.
struct IndexEntry {
    MftSegmentReference FileReference;
    little_uint16_t Length;           // bytes of the entry
    little_uint16_t AttributeLength;  // bytes of the FileName
    little_uint16_t Flags;
    little_uint16_t Reserved;
};
static_assert(sizeof(IndexEntry) == 16);

struct VolumeInformation {
    std::uint8_t Reserved[8];
    std::uint8_t MajorVersion;
    std::uint8_t MinorVersion;
    little_uint16_t VolumeFlags;
};
constexpr std::uint16_t VOLUME_DIRTY = 0x0001;

// [MS-FSCC] 2.1.2.1
constexpr std::uint32_t IO_REPARSE_TAG_MOUNT_POINT = 0xA0000003;
constexpr std::uint32_t IO_REPARSE_TAG_SYMLINK = 0xA000000C;
constexpr std::uint32_t IO_REPARSE_TAG_DEDUP = 0x80000013;
constexpr std::uint32_t IO_REPARSE_TAG_WOF = 0x80000017;
constexpr std::uint32_t IO_REPARSE_TAG_CLOUD = 0x9000001A;
constexpr std::uint32_t IO_REPARSE_TAG_CLOUD_MASK = 0xFFFF0FFF;  // one nibble tells variants apart

// [MS-FSCC] 2.3.65, in $UsnJrnl:$J
struct UsnRecordV2 {
    little_uint32_t RecordLength;  // bytes, a multiple of 8
    little_uint16_t MajorVersion;  // 2
    little_uint16_t MinorVersion;
    MftSegmentReference FileReferenceNumber;
    MftSegmentReference ParentFileReferenceNumber;
    little_uint64_t Usn;
    little_uint64_t TimeStamp;  // FILETIME
    little_uint32_t Reason;
    little_uint32_t SourceInfo;
    little_uint32_t SecurityId;
    little_uint32_t FileAttributes;
    little_uint16_t FileNameLength;  // bytes
    little_uint16_t FileNameOffset;
};
static_assert(sizeof(UsnRecordV2) == 60);
constexpr std::uint32_t USN_REASON_DATA_OVERWRITE = 0x00000001;
constexpr std::uint32_t USN_REASON_DATA_EXTEND = 0x00000002;
constexpr std::uint32_t USN_REASON_DATA_TRUNCATION = 0x00000004;
constexpr std::uint32_t USN_REASON_FILE_CREATE = 0x00000100;
constexpr std::uint32_t USN_REASON_FILE_DELETE = 0x00000200;
constexpr std::uint32_t USN_REASON_RENAME_OLD_NAME = 0x00001000;
constexpr std::uint32_t USN_REASON_RENAME_NEW_NAME = 0x00002000;
constexpr std::uint32_t USN_REASON_CLOSE = 0x80000000;

// The numbers of the file system's own records.
constexpr std::uint64_t MASTER_FILE_TABLE_NUMBER = 0;
constexpr std::uint64_t LOG_FILE_NUMBER = 2;
constexpr std::uint64_t VOLUME_DASD_NUMBER = 3;
constexpr std::uint64_t ROOT_FILE_NAME_INDEX_NUMBER = 5;
constexpr std::uint64_t BIT_MAP_FILE_NUMBER = 6;
constexpr std::uint64_t EXTEND_NUMBER = 11;
constexpr std::uint64_t FIRST_USER_FILE_NUMBER = 16;

}  // namespace dredger::ntfs

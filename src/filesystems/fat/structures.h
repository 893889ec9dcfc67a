// On-disk structures of FAT12, FAT16 and FAT32, named and ordered as in the "Microsoft Extensible Firmware Initiative
// FAT32 File System Specification", version 1.03 (December 2000), with the fields that later versions added.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstdint>

namespace dredger::fat {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;

struct BootSector {
    std::uint8_t BS_jmpBoot[3];
    char BS_OEMName[8];
    little_uint16_t BPB_BytsPerSec;  // 512, 1024, 2048 or 4096
    std::uint8_t BPB_SecPerClus;     // a power of two, 1 .. 128
    little_uint16_t BPB_RsvdSecCnt;  // not 0
    std::uint8_t BPB_NumFATs;        // 2, seldom 1
    little_uint16_t BPB_RootEntCnt;  // 0 on FAT32
    little_uint16_t BPB_TotSec16;    // 0 where BPB_TotSec32 counts
    std::uint8_t BPB_Media;          // F0, F8 .. FF
    little_uint16_t BPB_FATSz16;     // sectors; 0 on FAT32
    little_uint16_t BPB_SecPerTrk;
    little_uint16_t BPB_NumHeads;
    little_uint32_t BPB_HiddSec;
    little_uint32_t BPB_TotSec32;
};
static_assert(sizeof(BootSector) == 36);

// Behind BootSector on FAT12 and FAT16.
struct BootSector16 {
    std::uint8_t BS_DrvNum;
    std::uint8_t BS_Reserved1;
    std::uint8_t BS_BootSig;  // 0x29: the next three fields are there
    little_uint32_t BS_VolID;
    char BS_VolLab[11];
    char BS_FilSysType[8];
};

constexpr std::uint64_t kBackupSector = 6;  // of FAT32: where the boot sector's copy lies as a rule

// Behind BootSector on FAT32.
struct BootSector32 {
    little_uint32_t BPB_FATSz32;    // sectors
    little_uint16_t BPB_ExtFlags;   // bits 0-3: the active FAT, where bit 7 switches mirroring off
    little_uint16_t BPB_FSVer;      // 0
    little_uint32_t BPB_RootClus;   // first cluster of the root directory
    little_uint16_t BPB_FSInfo;     // sector
    little_uint16_t BPB_BkBootSec;  // sector of the boot sector's copy; 6 as a rule
    std::uint8_t BPB_Reserved[12];
    std::uint8_t BS_DrvNum;
    std::uint8_t BS_Reserved1;
    std::uint8_t BS_BootSig;
    little_uint32_t BS_VolID;
    char BS_VolLab[11];
    char BS_FilSysType[8];
};

constexpr std::uint8_t ATTR_READ_ONLY = 0x01;
constexpr std::uint8_t ATTR_HIDDEN = 0x02;
constexpr std::uint8_t ATTR_SYSTEM = 0x04;
constexpr std::uint8_t ATTR_VOLUME_ID = 0x08;
constexpr std::uint8_t ATTR_DIRECTORY = 0x10;
constexpr std::uint8_t ATTR_ARCHIVE = 0x20;
constexpr std::uint8_t ATTR_LONG_NAME = 0x0F;
constexpr std::uint8_t ATTR_LONG_NAME_MASK = 0x3F;
constexpr unsigned kMostNamePieces = 20;  // of a long name of 255 letters

constexpr std::uint8_t kEntryFree = 0xE5;   // DIR_Name[0] of a deleted entry, LDIR_Ord of a deleted long-name entry
constexpr std::uint8_t kEntryEnd = 0x00;    // this entry and all behind it were never used
constexpr std::uint8_t kEntryKanji = 0x05;  // stands for a first character E5
constexpr std::uint8_t LAST_LONG_ENTRY = 0x40;
constexpr std::uint8_t kLowerCaseBase = 0x08;       // DIR_NTRes: the base is shown in lower case
constexpr std::uint8_t kLowerCaseExtension = 0x10;  // DIR_NTRes: the extension is
constexpr std::size_t kEntrySize = 32;
constexpr std::size_t kLongest = 255;         // UTF-16 units in a long name
constexpr std::uint64_t kMaxEntries = 65536;  // in one directory

struct DirectoryEntry {
    std::uint8_t DIR_Name[11];  // base and extension, padded with spaces
    std::uint8_t DIR_Attr;
    std::uint8_t DIR_NTRes;
    std::uint8_t DIR_CrtTimeTenth;  // 10 ms, 0 .. 199
    little_uint16_t DIR_CrtTime;
    little_uint16_t DIR_CrtDate;
    little_uint16_t DIR_LstAccDate;
    little_uint16_t DIR_FstClusHI;  // 0 on FAT12 and FAT16
    little_uint16_t DIR_WrtTime;
    little_uint16_t DIR_WrtDate;
    little_uint16_t DIR_FstClusLO;
    little_uint32_t DIR_FileSize;  // bytes; 0 for a directory

    bool is_long_name() const { return (DIR_Attr & ATTR_LONG_NAME_MASK) == ATTR_LONG_NAME; }
    bool is_folder() const { return (DIR_Attr & ATTR_DIRECTORY) != 0; }
    std::uint32_t first_cluster() const { return std::uint32_t{DIR_FstClusHI} << 16 | DIR_FstClusLO; }
};
static_assert(sizeof(DirectoryEntry) == kEntrySize);

struct LongNameEntry {
    std::uint8_t LDIR_Ord;  // 1-based place of this piece of the name, LAST_LONG_ENTRY added for the last piece
    little_uint16_t LDIR_Name1[5];
    std::uint8_t LDIR_Attr;    // ATTR_LONG_NAME
    std::uint8_t LDIR_Type;    // 0
    std::uint8_t LDIR_Chksum;  // of the short name
    little_uint16_t LDIR_Name2[6];
    little_uint16_t LDIR_FstClusLO;  // 0
    little_uint16_t LDIR_Name3[2];
};
static_assert(sizeof(LongNameEntry) == kEntrySize);

}  // namespace dredger::fat

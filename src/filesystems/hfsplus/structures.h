// On-disk structures of HFS Plus and HFSX. All integers are big-endian.
// Source: Apple's Technical Note TN1150, "HFS Plus Volume Format"; attribute records and links to folders as in Apple's
// published hfs_format.h.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::hfsplus {

using boost::endian::big_int16_t;
using boost::endian::big_uint16_t;
using boost::endian::big_uint32_t;
using boost::endian::big_uint64_t;

inline constexpr std::size_t kHeaderAt = 1024;  // bytes from the volume's start; its alternate as many before its end

// Catalog node ids.
inline constexpr std::uint32_t kRootParentID = 1, kRootFolderID = 2, kExtentsFileID = 3, kCatalogFileID = 4,
                               kAttributesFileID = 8, kFirstUserCatalogNodeID = 16;

struct ExtentDescriptor {
    big_uint32_t startBlock;
    big_uint32_t blockCount;
};
inline constexpr std::size_t kExtentDensity = 8;
using ExtentRecord = ExtentDescriptor[kExtentDensity];

struct ForkData {
    big_uint64_t logicalSize;  // bytes
    big_uint32_t clumpSize;
    big_uint32_t totalBlocks;
    ExtentRecord extents;
};
static_assert(sizeof(ForkData) == 80);

struct VolumeHeader {
    big_uint16_t signature;  // "H+", "HX"
    big_uint16_t version;
    big_uint32_t attributes;
    big_uint32_t lastMountedVersion;
    big_uint32_t journalInfoBlock;
    big_uint32_t createDate;  // local time, unlike all others
    big_uint32_t modifyDate;
    big_uint32_t backupDate;
    big_uint32_t checkedDate;
    big_uint32_t fileCount;
    big_uint32_t folderCount;
    big_uint32_t blockSize;  // bytes
    big_uint32_t totalBlocks;
    big_uint32_t freeBlocks;
    big_uint32_t nextAllocation;
    big_uint32_t rsrcClumpSize;
    big_uint32_t dataClumpSize;
    big_uint32_t nextCatalogID;
    big_uint32_t writeCount;
    big_uint64_t encodingsBitmap;
    std::uint8_t finderInfo[32];
    ForkData allocationFile;
    ForkData extentsFile;
    ForkData catalogFile;
    ForkData attributesFile;
    ForkData startupFile;
};
static_assert(sizeof(VolumeHeader) == 512);
inline constexpr std::uint32_t kVolumeUnmountedBit = 1U << 8U, kVolumeJournaledBit = 1U << 13U;

// What wraps a volume for machines that know the older HFS alone ("HFS Wrapper"): of its master directory block.
struct WrapperBlock {
    big_uint16_t drSigWord;  // "BD"
    std::uint8_t before_block_size[18];
    big_uint32_t drAlBlkSiz;  // bytes
    std::uint8_t before_start[4];
    big_uint16_t drAlBlSt;  // sectors of 512 bytes
    std::uint8_t before_embedded[94];
    big_uint16_t drEmbedSigWord;  // "H+"
    big_uint16_t drEmbedStart;    // in units of drAlBlkSiz
    big_uint16_t drEmbedCount;
};
static_assert(offsetof(WrapperBlock, drAlBlkSiz) == 20 && offsetof(WrapperBlock, drEmbedSigWord) == 124);

// ---- B-trees

struct NodeDescriptor {
    big_uint32_t fLink;
    big_uint32_t bLink;
    std::int8_t kind;
    std::uint8_t height;
    big_uint16_t numRecords;
    big_uint16_t reserved;
};
static_assert(sizeof(NodeDescriptor) == 14);
inline constexpr std::int8_t kLeafNode = -1, kIndexNode = 0, kHeaderNode = 1, kMapNode = 2;

struct HeaderRecord {
    big_uint16_t treeDepth;
    big_uint32_t rootNode;
    big_uint32_t leafRecords;
    big_uint32_t firstLeafNode;
    big_uint32_t lastLeafNode;
    big_uint16_t nodeSize;  // bytes
    big_uint16_t maxKeyLength;
    big_uint32_t totalNodes;
    big_uint32_t freeNodes;
    big_uint16_t reserved1;
    big_uint32_t clumpSize;
    std::uint8_t btreeType;
    std::uint8_t keyCompareType;
    big_uint32_t attributes;
    big_uint32_t reserved3[16];
};
static_assert(sizeof(HeaderRecord) == 106);

// ---- the catalog

struct CatalogKey {
    big_uint16_t keyLength;  // bytes, without this field
    big_uint32_t parentID;
    big_uint16_t nodeNameLength;  // UTF-16 units, which follow
};
static_assert(sizeof(CatalogKey) == 8);

inline constexpr std::int16_t kFolderRecord = 1, kFileRecord = 2, kFolderThreadRecord = 3, kFileThreadRecord = 4;

struct BSDInfo {
    big_uint32_t ownerID;
    big_uint32_t groupID;
    std::uint8_t adminFlags;
    std::uint8_t ownerFlags;
    big_uint16_t fileMode;
    big_uint32_t special;  // of a hard link: the number of its inode
};
static_assert(sizeof(BSDInfo) == 16);
inline constexpr std::uint8_t kCompressedFlag = 0x20;  // of ownerFlags: UF_COMPRESSED

struct FinderInfo {
    std::uint8_t fileType[4];
    std::uint8_t fileCreator[4];
    std::uint8_t rest[24];
};
static_assert(sizeof(FinderInfo) == 32);

struct CatalogDates {
    big_uint32_t createDate;
    big_uint32_t contentModDate;
    big_uint32_t attributeModDate;
    big_uint32_t accessDate;
    big_uint32_t backupDate;
};

struct CatalogFolder {
    big_int16_t recordType;
    big_uint16_t flags;
    big_uint32_t valence;
    big_uint32_t folderID;
    CatalogDates dates;
    BSDInfo permissions;
    FinderInfo finderInfo;
    big_uint32_t textEncoding;
    big_uint32_t reserved;
};
static_assert(sizeof(CatalogFolder) == 88);

struct CatalogFile {
    big_int16_t recordType;
    big_uint16_t flags;
    big_uint32_t reserved1;
    big_uint32_t fileID;
    CatalogDates dates;
    BSDInfo permissions;
    FinderInfo finderInfo;
    big_uint32_t textEncoding;
    big_uint32_t reserved2;
    ForkData dataFork;
    ForkData resourceFork;
};
static_assert(sizeof(CatalogFile) == 248);

// Tells the name and folder of what its key's parentID is.
struct CatalogThread {
    big_int16_t recordType;
    big_int16_t reserved;
    big_uint32_t parentID;
    big_uint16_t nodeNameLength;  // UTF-16 units, which follow
};
static_assert(sizeof(CatalogThread) == 10);

// ---- extents behind the first eight of a fork

struct ExtentKey {
    big_uint16_t keyLength;
    std::uint8_t forkType;  // 0: data, 0xFF: resource
    std::uint8_t pad;
    big_uint32_t fileID;
    big_uint32_t startBlock;  // of the fork
};
static_assert(sizeof(ExtentKey) == 12);

// ---- extended attributes

struct AttributeKey {
    big_uint16_t keyLength;
    big_uint16_t pad;
    big_uint32_t fileID;
    big_uint32_t startBlock;
    big_uint16_t attrNameLen;  // UTF-16 units, which follow
};
static_assert(sizeof(AttributeKey) == 14);

inline constexpr std::uint32_t kAttributeInline = 0x10, kAttributeFork = 0x20, kAttributeExtents = 0x30;

struct AttributeData {
    big_uint32_t recordType;
    big_uint32_t reserved[2];
    big_uint32_t attrSize;  // bytes, which follow
};
static_assert(sizeof(AttributeData) == 16);

struct AttributeForkData {
    big_uint32_t recordType;
    big_uint32_t reserved;
    ForkData theFork;
};
static_assert(sizeof(AttributeForkData) == 88);

struct AttributeExtents {
    big_uint32_t recordType;
    big_uint32_t reserved;
    ExtentRecord extents;
};
static_assert(sizeof(AttributeExtents) == 72);

// ---- the journal; its header and lists are in the byte order of the machine that wrote it

struct JournalInfoBlock {
    big_uint32_t flags;
    std::uint8_t device_signature[32];
    big_uint64_t offset;  // bytes from the volume's start
    big_uint64_t size;    // bytes
};
static_assert(sizeof(JournalInfoBlock) == 52);
inline constexpr std::uint32_t kJournalInFS = 1;

}  // namespace dredger::hfsplus

// On-disc structures of UDF, in the order of their fields. Sources: ECMA-167 (3rd edition) and OSTA, "Universal Disk
// Format Specification" 2.60. All numbers are little-endian.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::udf {

using boost::endian::little_int16_t, boost::endian::little_uint16_t, boost::endian::little_uint32_t,
    boost::endian::little_uint64_t;

// 3/7.2 and 4/7.2
struct Tag {
    little_uint16_t identifier;
    little_uint16_t version;
    std::uint8_t checksum;  // of the other 15 bytes
    std::uint8_t reserved;
    little_uint16_t serial_number;
    little_uint16_t crc;
    little_uint16_t crc_length;
    little_uint32_t location;  // block
};

enum TagIdentifier : std::uint16_t {
    kPrimaryVolume = 1,
    kAnchor = 2,
    kPartition = 5,
    kLogicalVolume = 6,
    kTerminating = 8,
    kFileSet = 256,
    kFileIdentifier = 257,
    kAllocationExtent = 258,
    kFileEntry = 261,
    kExtendedFileEntry = 266,
};

// 3/7.1
struct ExtentAd {
    little_uint32_t length;    // bytes
    little_uint32_t location;  // sector
};

// 4/14.14.2; the two highest bits of the length say what it is.
struct LongAd {
    little_uint32_t length;
    little_uint32_t block;
    little_uint16_t partition;  // reference
    std::byte implementation_use[6];
};

// 4/14.14.1
struct ShortAd {
    little_uint32_t length;
    little_uint32_t position;
};

enum ExtentType : std::uint32_t { kRecorded = 0, kAllocated = 1, kHole = 2, kContinued = 3 };

// 1/7.3
struct Timestamp {
    little_uint16_t type_and_zone;  // minutes east in the low 12 bits
    little_int16_t year;
    std::uint8_t month, day, hour, minute, second, centiseconds, hundreds, microseconds;
};

// 3/10.2
struct AnchorVolumeDescriptorPointer {
    Tag tag;
    ExtentAd main;
    ExtentAd reserve;
};

// 3/10.5
struct PartitionDescriptor {
    Tag tag;
    little_uint32_t sequence_number;
    little_uint16_t flags;
    little_uint16_t number;
    std::byte contents[32];
    std::byte contents_use[128];
    little_uint32_t access_type;
    little_uint32_t starting_location;  // sector
    little_uint32_t length;             // sectors
};

// 3/10.6; the partition maps follow.
struct LogicalVolumeDescriptor {
    Tag tag;
    little_uint32_t sequence_number;
    std::byte character_set[64];
    std::byte identifier[128];  // dstring
    little_uint32_t block_size;
    std::byte domain[32];
    LongAd file_set;
    little_uint32_t map_table_length;  // bytes
    little_uint32_t partition_maps;
    std::byte implementation[32];
    std::byte implementation_use[128];
    ExtentAd integrity_sequence;
};
static_assert(sizeof(LogicalVolumeDescriptor) == 440);

// 4/14.1, as far as it is needed
struct FileSetDescriptor {
    Tag tag;
    Timestamp recorded;
    std::byte skipped[372];
    LongAd root;
};
static_assert(offsetof(FileSetDescriptor, root) == 400);

// 4/14.6
struct IcbTag {
    little_uint32_t prior_entries;
    little_uint16_t strategy;
    std::byte strategy_parameter[2];
    little_uint16_t maximum_entries;
    std::uint8_t reserved;
    std::uint8_t file_type;
    std::byte parent[6];
    little_uint16_t flags;  // the lowest three bits: how the content is told of
};

enum FileTypes : std::uint8_t { kDirectoryType = 4, kRegularType = 5, kSymlinkType = 12 };
enum AllocationType : std::uint16_t { kShortAds = 0, kLongAds = 1, kEmbedded = 3 };

// 4/14.9
struct FileEntry {
    Tag tag;
    IcbTag icb;
    little_uint32_t uid;
    little_uint32_t gid;
    little_uint32_t permissions;
    little_uint16_t links;
    std::uint8_t record_format, record_display;
    little_uint32_t record_length;
    little_uint64_t information_length;  // bytes
    little_uint64_t blocks_recorded;
    Timestamp accessed;
    Timestamp modified;
    Timestamp attributes_changed;
    little_uint32_t checkpoint;
    LongAd extended_attributes;
    std::byte implementation[32];
    little_uint64_t unique_id;
    little_uint32_t extended_attributes_length;
    little_uint32_t allocation_length;  // bytes
};
static_assert(sizeof(FileEntry) == 176);

// 4/14.17
struct ExtendedFileEntry {
    Tag tag;
    IcbTag icb;
    little_uint32_t uid;
    little_uint32_t gid;
    little_uint32_t permissions;
    little_uint16_t links;
    std::uint8_t record_format, record_display;
    little_uint32_t record_length;
    little_uint64_t information_length;  // bytes
    little_uint64_t object_size;
    little_uint64_t blocks_recorded;
    Timestamp accessed;
    Timestamp modified;
    Timestamp created;
    Timestamp attributes_changed;
    little_uint32_t checkpoint;
    little_uint32_t reserved;
    LongAd extended_attributes;
    LongAd streams;
    std::byte implementation[32];
    little_uint64_t unique_id;
    little_uint32_t extended_attributes_length;
    little_uint32_t allocation_length;  // bytes
};
static_assert(sizeof(ExtendedFileEntry) == 216);

// 4/14.4; implementation use and the name follow.
struct FileIdentifierDescriptor {
    Tag tag;
    little_uint16_t version;
    std::uint8_t characteristics;
    std::uint8_t identifier_length;  // bytes
    LongAd icb;
    little_uint16_t implementation_use_length;
};
static_assert(sizeof(FileIdentifierDescriptor) == 38);

enum Characteristics : std::uint8_t { kIsHidden = 1, kIsDirectory = 2, kIsDeleted = 4, kIsParent = 8 };

}  // namespace dredger::udf

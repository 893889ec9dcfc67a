// On-disc structures of ISO 9660, in the order of their fields. Sources: ECMA-119 (4th edition), the Joliet
// Specification, and for owners, modes and long names IEEE P1281 (System Use Sharing Protocol) and P1282 (Rock Ridge
// Interchange Protocol). Numbers that are stored both ways are taken from their little-endian half.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstddef>
#include <cstdint>

namespace dredger::iso9660 {

using boost::endian::big_uint32_t, boost::endian::little_uint16_t, boost::endian::little_uint32_t;

inline constexpr std::uint64_t kSector = 2048;         // bytes
inline constexpr std::uint64_t kFirstDescriptor = 16;  // sector of a session

struct BothWays32 {
    little_uint32_t little;
    big_uint32_t big;
};

struct BothWays16 {
    little_uint16_t little;
    std::byte big[2];
};

// 9.1; an identifier of `length_of_file_identifier` bytes follows, and then the System Use area.
struct DirectoryRecord {
    std::uint8_t length;
    std::uint8_t extended_attribute_record_length;  // blocks in front of the content
    BothWays32 location_of_extent;                  // block
    BothWays32 data_length;                         // bytes
    std::uint8_t recording_date[7];  // years since 1900, month, day, hour, minute, second, quarters of an hour east
    std::uint8_t file_flags;
    std::uint8_t file_unit_size;
    std::uint8_t interleave_gap_size;
    BothWays16 volume_sequence_number;
    std::uint8_t length_of_file_identifier;
};
static_assert(sizeof(DirectoryRecord) == 33);

enum FileFlags : std::uint8_t { kHidden = 1, kDirectory = 2, kAssociated = 4, kMultiExtent = 0x80 };

// 8.4 and 8.5
struct VolumeDescriptor {
    std::uint8_t type;
    char standard_identifier[5];  // "CD001"
    std::uint8_t version;
    std::uint8_t flags;
    char system_identifier[32];
    std::byte volume_identifier[32];
    std::byte unused[8];
    BothWays32 volume_space_size;  // blocks
    char escape_sequences[32];     // of a supplementary one
    BothWays16 volume_set_size;
    BothWays16 volume_sequence_number;
    BothWays16 logical_block_size;  // bytes
    BothWays32 path_table_size;     // bytes
    little_uint32_t location_of_type_l_path_table;
    little_uint32_t location_of_optional_type_l_path_table;
    big_uint32_t location_of_type_m_path_table;
    big_uint32_t location_of_optional_type_m_path_table;
    DirectoryRecord root_directory_record;
    std::uint8_t root_identifier;
    std::byte identifiers[623];
    char volume_creation_date[17];
    char volume_modification_date[17];
};

enum DescriptorType : std::uint8_t { kPrimary = 1, kSupplementary = 2, kTerminator = 255 };

}  // namespace dredger::iso9660

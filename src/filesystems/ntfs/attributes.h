// The attributes of one record, as they stand there.
#pragma once

#include <optional>

#include "base/bytes.h"
#include "filesystems/ntfs/structures.h"

namespace dredger::ntfs {

struct Attribute {
    std::uint32_t type = 0;
    std::uint16_t flags = 0;
    ByteView name;  // UTF-16; empty for the unnamed one
    bool resident = true;

    ByteView value;                // resident only
    std::size_t value_offset = 0;  // of `value` in the record

    NonresidentForm nonresident{};  // otherwise
    ByteView mapping_pairs;
};

// Goes through a record's attributes in order and ends at the first that makes no sense.
class AttributeReader {
  public:
    // `record` with its fix-ups applied, cut to the bytes that are good.
    AttributeReader(ByteView record, const FileRecordSegmentHeader& header)
        : record_(record), at_(header.FirstAttributeOffset) {}

    std::optional<Attribute> next();

    // Whether the list came to its regular end.
    bool ended_well() const { return ended_; }

  private:
    ByteView record_;
    std::size_t at_;
    bool ended_ = false;
};

}  // namespace dredger::ntfs

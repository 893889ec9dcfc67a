// Content that Apple's file systems keep packed: an attribute tells how, and holds it where it is small; else the
// resource fork does, in blocks that are packed each by itself.
// Source: Apple's published decmpfs.h, and the layout of the resource fork as in "Inside Macintosh: More Macintosh
// Toolbox", 1-121.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <optional>
#include <string_view>

#include "filesystems/filesystem.h"
#include "media/medium.h"

namespace dredger {

inline constexpr std::string_view kDecmpfsAttribute = "com.apple.decmpfs";
inline constexpr std::string_view kResourceForkAttribute = "com.apple.ResourceFork";

struct DecmpfsHeader {
    boost::endian::little_uint32_t compression_magic;  // "cmpf", from its last letter to its first
    boost::endian::little_uint32_t compression_type;
    boost::endian::little_uint64_t uncompressed_size;  // bytes
};
static_assert(sizeof(DecmpfsHeader) == 16);

// None where it is no such attribute.
std::optional<DecmpfsHeader> parse_decmpfs(ByteView attribute);

// Lays the content of a packed file and sets the record's size. `attribute` and `resource`: the attribute's and the
// resource fork's bytes on `volume`; where a part of either is not there, or packed in an unknown way, that is said in
// the record.
void lay_compressed(const MediumPtr& volume, const std::vector<Extent>& attribute, const std::vector<Extent>& resource,
                    Record& record);

}  // namespace dredger

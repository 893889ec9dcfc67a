// The records of file-system trees.
#pragma once

#include <optional>
#include <string>

#include "base/times.h"
#include "filesystems/apfs/node.h"

namespace dredger::apfs {

struct FsKey {
    std::uint64_t oid = 0;
    unsigned type = 0;         // APFS_TYPE_...
    std::uint64_t number = 0;  // of an extent, the byte of the file that it begins with; 0 of all others
    auto operator<=>(const FsKey&) const = default;
};

// None where it is too short.
std::optional<FsKey> parse_fs_key(ByteView key);

struct Inode {
    std::uint64_t parent = 0, private_id = 0;
    FileTime created, modified, changed, accessed;
    std::int32_t links = 0;  // of a folder: how many are in it
    std::uint32_t bsd_flags = 0, owner = 0, group = 0;
    std::uint16_t mode = 0;
    std::string name;             // the first it was given, or the last; empty: not told
    std::uint64_t size = 0;       // bytes of its content
    std::uint64_t sparse = 0;     // bytes of these that are not stored
    std::uint64_t allocated = 0;  // bytes of the blocks that it has or had
    bool is_clone = false;        // of another file, or another one of it
    bool has_content = false;     // it has a stream of its own
    Extent finder_place;          // bytes, on the container; none where it has no such information
    bool is_folder() const { return (mode & 0xF000) == 0x4000; }
    // Nothing was changed since it was made: what is written to a file is told in its inode later.
    bool is_new() const { return !has_content && changed == created; }
    bool is_compressed() const { return (bsd_flags & UF_COMPRESSED) != 0; }
};
std::optional<Inode> parse_inode(ByteView value);

struct DirectoryRecord {
    std::uint64_t file_id = 0;
    std::string name;
    bool is_of_folder = false;
};
std::optional<DirectoryRecord> parse_directory_record(ByteView key, ByteView value);

struct FileExtent {
    std::uint64_t start = 0;   // bytes, in the file
    std::uint64_t length = 0;  // bytes
    std::uint64_t paddr = 0;   // block; 0: a hole
};
std::optional<FileExtent> parse_file_extent(const FsKey& key, ByteView value);
// Where a stream of so many bytes lies; what no extent tells of is zeros if all are told, else it is not known.
std::vector<Extent> places_of(const Blocks& blocks, const std::vector<FileExtent>& extents, std::uint64_t size,
                              bool all_are_told);

struct Attribute {
    std::string name;
    Extent place;              // bytes, on the container, where it is embedded; else ...
    std::uint64_t stream = 0;  // ... the object whose extents hold it ...
    std::uint64_t size = 0;    // ... and their bytes
    bool is_embedded() const { return stream == 0; }
};
std::optional<Attribute> parse_attribute(ByteView key, ByteView value);

struct Sibling {
    std::uint64_t parent = 0;
    std::string name;
};
std::optional<Sibling> parse_sibling(ByteView value);

}  // namespace dredger::apfs

// What items of a file tree tell of files.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "base/times.h"
#include "filesystems/btrfs/volume.h"
#include "filesystems/filesystem.h"

namespace dredger::btrfs {

FileTime time_of(const Timespec& time);

struct Inode {
    std::uint64_t generation = 0;  // of the transaction that made it
    std::uint64_t sequence = 0;    // goes up with each change
    std::uint64_t size = 0;        // bytes
    std::uint64_t stored = 0;      // bytes of it that extents hold
    std::uint32_t links = 0, uid = 0, gid = 0;
    std::uint16_t mode = 0;
    FileTime accessed, changed, modified, created;
};
std::optional<Inode> parse_inode(ByteView data);

struct Name {
    std::uint64_t parent = 0;  // inode of the folder
    std::string name;          // as it stands there
};
// Of an INODE_REF or an INODE_EXTREF item: the names of one inode.
std::vector<Name> names_in(const Key& key, ByteView data);

struct FileExtent {
    std::uint64_t start = 0;       // byte of the file
    std::uint64_t length = 0;      // bytes of it
    std::uint64_t generation = 0;  // of the transaction that wrote it
    Pack::Method codec = Pack::Method::none;
    bool is_known = true;        // false: it is packed in a way that is not known, or encrypted
    bool is_hole = false;        // zeros by definition
    std::uint64_t logical = 0;   // of the stored bytes, unless inline
    std::uint64_t stored = 0;    // bytes
    std::uint64_t skip = 0;      // of what is stored, or comes out, before the file's part
    std::uint64_t unpacked = 0;  // bytes that come out in all
    std::optional<Extent> inline_place;
};
std::optional<FileExtent> parse_file_extent(const Key& key, ByteView data);

// By the byte of the file at which they start; those of later leaves stand over earlier ones.
class FileExtents {
  public:
    void add(const FileExtent& extent, std::uint64_t leaf_generation);
    // A leaf of this generation told of all extents that start from byte `first` to byte `last` of the file: what
    // earlier ones told of there is of an earlier version.
    void cover(std::uint64_t first, std::uint64_t last, std::uint64_t leaf_generation);
    bool empty() const { return extents_.empty(); }
    // Sets layout, and trust where parts are not known. Holes where nothing tells of a part are zeros, as they are in a
    // file system that does without items for them; unless the inode says that more bytes were `stored` than are told
    // of. Where it says that fewer were, those that only earlier leaves tell of are of an earlier version.
    // The logical address of each stored extent of the layout; 0 of the others.
    std::vector<std::uint64_t> lay(const ChunkMap& chunks, Record& record, std::optional<std::uint64_t> stored) const;
    // All stored ones.
    void each(const std::function<void(const FileExtent&)>& visit) const;

  private:
    using ByStart = std::map<std::uint64_t, std::pair<std::uint64_t, FileExtent>>;  // with the generation of the leaf
    static std::uint64_t told_by(const ByStart& extents);                           // bytes of the file that are stored
    // Without those of the earliest leaves, as few as need be left out for the count to come out right; none, where it
    // never does.
    std::optional<ByStart> version_of(std::uint64_t stored) const;

    struct Cover {
        std::uint64_t first, last, generation;
    };
    ByStart extents_;
    std::vector<Cover> covers_;
};

// Sets everything but name, state and layout.
void tell_inode(Record& record, std::uint64_t number, const Inode& inode);

}  // namespace dredger::btrfs

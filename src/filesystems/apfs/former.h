// What older transactions tell: leaves of file-system trees that today's have left, as they still stand anywhere. A
// number is given to one file of a volume alone, so that whatever is told of a number is of one file.
#pragma once

#include <functional>
#include <map>
#include <set>
#include <unordered_map>
#include <vector>

#include "filesystems/apfs/remains.h"

namespace dredger::apfs {

// The extents of one stream as several transactions had them.
class FormerExtents {
  public:
    void add(const FileExtent& extent, std::uint64_t xid);
    // The leaf of this transaction tells all that there is between these bytes, the last one included.
    void cover(std::uint64_t first, std::uint64_t last, std::uint64_t xid);

    bool empty() const { return extents_.empty(); }
    // In order; what a newer one reaches over is cut off.
    std::vector<FileExtent> newest() const;

  private:
    struct Told {
        std::uint64_t xid = 0;
        FileExtent extent;
    };
    struct Cover {
        std::uint64_t first, last, xid;
    };
    std::map<std::uint64_t, Told> extents_;  // by start
    std::vector<Cover> covers_;
};

struct FormerName {
    std::uint64_t parent = 0;  // 0: lost
    std::string name;
    std::uint64_t xid = 0;       // of the last leaf that told of it
    bool parent_is_told = true;  // false: it was found out by comparing times
};

struct FormerFile {
    std::optional<Inode> inode;  // as it was last, with a name if it is known with one
    std::uint64_t xid = 0;       // of the leaf that told of that
    bool is_folder = false;
    std::optional<FileTime> removed;  // its last name
    std::vector<FormerName> names;
    std::vector<Attribute> attributes;

    // The one that it was seen under last, or null.
    const FormerName* name() const;
};

// Of one volume.
class Former {
  public:
    using IsLive = std::function<bool(std::uint64_t inode)>;
    // Takes what the leaf tells of files that are not live.
    void take(const Node& leaf, const IsLive& is_live);
    // Takes what is left in a leaf of this transaction of records that it had before.
    void take_remains(const LeafRemains& remains, std::uint64_t xid, const IsLive& is_live);
    // A folder, live or not, and when something was last put into it or taken out.
    void note_folder(std::uint64_t number, const FileTime& changed);
    // When all leaves were taken: puts files whose folder is lost where a loose name of theirs stands, or else into the
    // only folder that was changed in the moment in which they were made or removed.
    void settle(const std::function<bool(std::uint64_t number)>& is_folder);

    const std::map<std::uint64_t, FormerFile>& files() const { return files_; }
    const FormerFile* file(std::uint64_t inode) const;
    // Of a stream of so many bytes, by its number; where leaves don't tell all of it, what is left in them does.
    std::vector<FileExtent> extents_of(std::uint64_t stream, std::uint64_t size) const;

  private:
    FormerFile* file_of(std::uint64_t inode, const IsLive& is_live);
    static void take_inode(FormerFile& file, const Inode& inode, std::uint64_t xid);
    std::uint64_t folder_of(const FormerFile& file, const std::string& name,
                            const std::function<bool(std::uint64_t)>& is_folder) const;
    void take_file(const FsKey& key, ByteView key_bytes, ByteView value, std::uint64_t xid, const IsLive& is_live);

    std::map<std::uint64_t, FormerFile> files_;
    std::unordered_map<std::uint64_t, FormerExtents> extents_;        // by stream
    std::unordered_map<std::string, std::set<std::uint64_t>> loose_;  // names, and the folders that they are in
    std::map<std::pair<std::int64_t, std::uint32_t>, std::set<std::uint64_t>>
        folders_at_;                                            // by the moment of their change
    std::unordered_map<std::uint64_t, FormerExtents> remains_;  // the same, of records that leaves don't have any more
};

}  // namespace dredger::apfs

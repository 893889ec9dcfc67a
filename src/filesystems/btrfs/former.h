// What older generations of file trees tell: nodes that today's trees have left, as they still stand among the others.
// An inode's number is never given twice in a subvolume, so that whatever is told of a number is of one file.
#pragma once

#include <functional>
#include <map>
#include <unordered_set>

#include "filesystems/btrfs/files.h"

namespace dredger::btrfs {

struct FormerFile {
    std::optional<Inode> inode;    // as it was last seen with a name
    std::uint64_t inode_leaf = 0;  // the generation of the leaf that told
    std::optional<FileTime> deleted;
    std::map<std::pair<std::uint64_t, std::string>, std::uint64_t> names;  // folder and name; the last leaf that told
    FileExtents extents;

    // The one that it was seen under last, or null.
    const std::pair<std::uint64_t, std::string>* name() const;
};

// A name of a subvolume.
struct FormerRoot {
    std::uint64_t parent = 0, folder = 0;  // root, and inode in it
    std::string name;
    std::uint64_t leaf = 0;  // the generation of the leaf that told
};

class Former {
  public:
    // `is_live`: whether a tree has this inode now. False: stopped.
    bool read(const Nodes& nodes, const std::function<bool(std::uint64_t root, std::uint64_t inode)>& is_live,
              const std::function<bool(const char* doing, std::uint64_t done, std::uint64_t total)>& go_on);

    const std::map<std::uint64_t, std::map<std::uint64_t, FormerFile>>& files() const { return files_; }  // by root
    const FormerFile* file(std::uint64_t root, std::uint64_t inode) const;
    const std::map<std::uint64_t, FormerRoot>& roots() const { return roots_; }

    // A part of a file, the generation that wrote it, and the next one that wrote something else there: only leaves
    // from then on, and of before that, tell of its bytes.
    struct Summed : LogicalRange {
        std::uint64_t written = 0, before = UINT64_MAX;
    };
    // The checksums of all sectors of these, as the leaves had them that are nearest to their writing: who else wrote
    // there later is not always known. Empty where one is not known.
    std::vector<std::uint32_t> sums_of(const Nodes& nodes, const std::vector<Summed>& ranges) const;

  private:
    void take_leaf(const Node& leaf, const std::function<bool(std::uint64_t, std::uint64_t)>& is_live);
    void take_sums(const Node& leaf);

    std::map<std::uint64_t, std::map<std::uint64_t, FormerFile>> files_;
    std::map<std::uint64_t, FormerRoot> roots_;
    struct SumRun {
        std::uint64_t logical, length;  // bytes
        std::uint64_t generation;       // of the leaf
        std::uint64_t place;            // bytes, on the volume: of the sums
    };
    std::vector<SumRun> sums_;  // by logical address, once all are read
    std::uint64_t longest_ = 0;
    std::size_t count_ = 0;
    std::uint32_t sector_size_ = 4096;
};

}  // namespace dredger::btrfs

// The files that inodes held before: an inode is given a new generation when it is freed. What a former one was like
// stands in the freed inode, as far as it was not written back, in the list of extents that freeing leaves behind, and
// in the log.
#pragma once

#include <functional>
#include <map>

#include "filesystems/xfs/block_map.h"
#include "filesystems/xfs/directory.h"
#include "filesystems/xfs/groups.h"
#include "filesystems/xfs/log.h"

namespace dredger::xfs {

struct Life {
    Inode inode;                 // as it was last known; its fork tells of its content
    bool core_is_known = false;  // false: only where its content lay; size, mode and times are not known
    bool size_is_known = false;
    bool from_log = false;
    bool fork_is_left = false;  // the fork is what freeing left: how many of its extents count is not told
    std::optional<FileTime> deleted;
    std::uint64_t sequence = 0;  // of the last log record that tells of it; 0: none does

    bool is_folder() const { return inode.is_folder(); }
};

// A name that was seen for an inode.
struct Sighting {
    std::uint64_t folder = 0;
    DirectoryEntry entry;
    std::uint64_t sequence = 0;  // of the log record; 0: it stands on the volume
};

class Lives final : LogSink {
  public:
    Lives(const MediumPtr& volume, const Geometry& geometry, const Groups& groups)
        : volume_(volume), geometry_(geometry), groups_(groups) {}

    // `go_on` is told of the progress; false ends it. False: stopped.
    bool read(const std::function<bool(const char* doing, std::uint64_t done, std::uint64_t total)>& go_on);
    // The inode at its place, if there was ever one in use: for one that no chunk holds any more.
    void look_at(std::uint64_t inode);

    // By inode, then by generation in the order in which they followed each other, as far as that is known.
    const std::map<std::uint64_t, std::vector<Life>>& all() const { return lives_; }
    // Names in the log, by the place (bytes, on the volume) of the buffers that they stood in, where the folder is not
    // told.
    struct Unplaced {
        std::uint64_t offset;
        Sighting sighting;
    };
    const std::vector<Unplaced>& unplaced() const { return unplaced_; }
    // The folder whose block stood at this place (bytes, on the volume) when a log record was written; 0: nobody knows.
    std::uint64_t owner_at(std::uint64_t offset, std::uint64_t sequence) const;
    // Blocks of directories that gave them back, as they still stand in free space.
    const std::vector<Directory>& given_back() const { return given_back_; }
    const std::vector<Sighting>& sightings() const { return sightings_; }
    const LogState& log() const { return log_; }

    ExtentList extents_of_life(const Life& life) const;

  private:
    void take(LoggedInode&& logged) override;
    void take(LoggedBytes&& bytes) override;
    bool reached(std::uint64_t done, std::uint64_t total) override;
    void read_chunk(const InodeChunk& chunk);
    void look_at_free_chunks();
    void look_at_free_blocks();
    void take_freed(Inode&& inode);
    Life* life_of(std::uint64_t inode, std::uint32_t generation);

    const MediumPtr& volume_;
    const Geometry& geometry_;
    const Groups& groups_;
    std::map<std::uint64_t, std::vector<Life>> lives_;
    std::size_t count_ = 0;
    std::vector<Unplaced> unplaced_;
    std::vector<Sighting> sightings_;
    std::vector<Directory> given_back_;
    std::map<std::uint64_t, std::map<std::uint64_t, std::uint64_t>> owners_;  // by place, then by sequence
    LogState log_;
    std::function<bool(const char*, std::uint64_t, std::uint64_t)> go_on_;
    bool stopped_ = false;
};

}  // namespace dredger::xfs

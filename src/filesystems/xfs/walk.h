// Everything that an XFS volume tells of its files: the live tree first, then what inodes held before, with the names
// that were seen for them.
#pragma once

#include <unordered_map>

#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"
#include "filesystems/xfs/lives.h"

namespace dredger::xfs {

class XfsWalk : Walking {
  public:
    XfsWalk(MediumPtr volume, const Geometry& geometry, const Groups& groups, const WalkOptions& options,
            RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    struct Folder {
        std::uint64_t parent = 0;  // inode
        std::string name;          // UTF-8; empty for the root
    };

    std::optional<Inode> inode_at(std::uint64_t number) const;
    void walk_live();
    std::vector<Directory> directory_of(const Inode& inode, const ExtentList& extents);
    void take_entry(std::uint64_t folder, const std::string& path, const DirectoryEntry& entry);
    void walk_deleted();
    void learn_from(const Lives& lives, std::uint64_t number, const Life& life);
    void take_former(std::uint64_t folder, const Directory& part);
    void place_sightings(const Lives& lives);
    void drop_live_names();
    const Sighting* name_of(std::uint64_t inode, std::size_t life, const std::vector<Life>& lives) const;
    std::string path_of(std::uint64_t folder) const;
    FolderPlace place_of(std::uint64_t folder) const;
    void emit_life(const Lives& lives, const Life& life, const Sighting* name);
    void tell_content(Record& record, const Lives& lives, const Life& life);
    Record record_of(const Inode& inode) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    const Groups& groups_;

    std::unordered_map<std::uint64_t, Folder> folders_;            // live ones
    std::unordered_map<std::uint64_t, Folder> former_folders_;     // as far as something tells of them
    std::vector<std::pair<std::uint64_t, std::uint64_t>> owners_;  // place of a directory block, inode of the directory
    std::vector<Sighting> sightings_;                              // of names that are not live
    std::unordered_map<std::uint32_t, std::vector<std::size_t>> by_inode_;  // sightings, by the low half of the inode
    std::uint64_t damaged_folders_ = 0, damaged_inodes_ = 0;
};

}  // namespace dredger::xfs

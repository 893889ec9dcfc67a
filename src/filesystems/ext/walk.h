// Everything that an ext volume tells of its files: the live tree first, then what was deleted, put together from
// what inodes were before and the names that were seen for them.
#pragma once

#include "filesystems/ext/sightings.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::ext {

class ExtWalk : Walking {
  public:
    // `volume` is as played_back() gives it.
    ExtWalk(MediumPtr volume, const Geometry& geometry, const Groups& groups, const Journal& journal,
            const SpaceMap& space, const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    struct Folder {
        std::uint32_t inode;
        std::uint32_t parent;  // in folders_
        std::string name;      // UTF-8; empty for the root
    };

    void walk_live(std::uint32_t root, const std::string& name, State state);
    void read_folder(std::size_t folder, State state);
    bool each_block(const Inode& inode, const std::function<void(std::uint64_t block, const DirectoryBlock&)>& visit);
    std::map<std::string, std::uint32_t> entries_of(std::uint32_t folder);
    void read_entries(std::size_t folder, const DirectoryBlock& block, State state);
    std::string path_of(std::size_t folder) const;
    void walk_unreached(const std::vector<std::uint32_t>& inodes);

    void walk_deleted();
    void learn_owners(const Lives& lives);
    void see_names(const Lives& lives);
    void look_at_free_blocks(Sightings& sightings) const;
    std::vector<std::vector<const Sighting*>> names_of(const Lives& lives) const;
    void name_folders(const Lives& lives, const std::vector<std::vector<const Sighting*>>& names);
    FolderPlace place_of(const Lives& lives, std::uint32_t folder, std::optional<std::uint32_t> sequence) const;
    void emit_life(const Lives& lives, std::size_t life, const std::vector<const Sighting*>& names);
    void emit_names_alone(const Lives& lives);

    Record record_of(const Inode& inode) const;
    static void add_content(Record& record, const Inode& inode, Mapping&& mapping);

    MediumPtr volume_;
    const Geometry& geometry_;
    const Groups& groups_;
    const Journal& journal_;
    const SpaceMap& space_;
    InodeTable table_;

    std::vector<Folder> folders_;
    std::unordered_map<std::uint32_t, std::uint32_t> folder_by_inode_;  // index in folders_
    std::vector<bool> reached_;                                         // by inode
    BlockOwners owners_;
    std::vector<Sighting> sightings_;
    std::vector<const Sighting*> folder_names_;  // by life: the name of a deleted folder
    std::uint64_t damaged_folders_ = 0;
    std::uint64_t damaged_inodes_ = 0;
};

}  // namespace dredger::ext

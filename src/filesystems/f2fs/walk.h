// Hands over every file of an F2FS volume: the live ones from its root down, the deleted ones by the inodes that still
// stand in segments of nodes. Nothing is written over in place, so that these tell name, folder and addresses as they
// were last.
#pragma once

#include <map>

#include "filesystems/f2fs/directory.h"
#include "filesystems/f2fs/node.h"
#include "filesystems/f2fs/tables.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::f2fs {

class F2fsWalk : private Walking {
  public:
    F2fsWalk(MediumPtr volume, const Geometry& geometry, const Tables& tables, const WalkOptions& options,
             RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    struct Folder {
        std::uint32_t parent = 0;
        std::string name;
    };
    // A block of a node as it was written once.
    struct Written {
        std::uint32_t block = 0;
        std::uint32_t version = 0;
    };
    // A state of an inode that nothing refers to any more.
    struct Former {
        Written at;
        std::uint32_t generation = 0, parent = 0, links = 0;
        bool parent_is_known = true;
        std::string name;
        bool is_folder = false;
        // Whether it tells more of the file than another state: while it had a name, and later.
        bool is_better_than(const Former& other) const {
            if ((links > 0) != (other.links > 0)) return links > 0;
            return std::pair(at.version, at.block) > std::pair(other.at.version, other.at.block);
        }
    };

    void walk_live();
    void walk_deleted();
    void read_segment(std::uint32_t segment);
    void keep(std::uint32_t block, ByteView bytes);
    void emit_former(std::uint32_t number, const Former& former);

    std::optional<std::vector<std::byte>> block_at(std::uint32_t block) const;
    std::optional<Inode> inode_at(std::uint32_t block) const;
    std::optional<Inode> live_inode(std::uint32_t number) const;
    NodeSource live_nodes() const;
    NodeSource former_nodes(std::uint32_t inode, std::uint32_t version) const;
    std::vector<DirectoryEntry> entries_of(const Inode& folder);
    void tell(Record& record, const Inode& inode, const NodeSource& nodes) const;
    std::string path_of(std::uint32_t folder) const;
    FolderPlace place_of(std::uint32_t folder) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    const Tables& tables_;
    std::map<std::uint32_t, Folder> folders_;                                        // live ones
    std::map<std::pair<std::uint32_t, std::uint32_t>, Former> former_;               // by number and generation
    std::map<std::pair<std::uint32_t, std::uint32_t>, std::vector<Written>> lists_;  // by inode and node
    std::map<std::uint32_t, std::pair<std::uint32_t, std::string>> seen_;            // folder and name, by inode
    std::map<std::uint32_t, std::uint32_t> live_generations_;                        // by number
    std::uint64_t damaged_folders_ = 0, damaged_inodes_ = 0;
};

}  // namespace dredger::f2fs

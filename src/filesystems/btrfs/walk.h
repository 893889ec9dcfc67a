// Everything that a Btrfs volume tells of its files: the live trees of all subvolumes, then what older generations of
// them still tell. Snapshots share most of their nodes with what they were made of: each node is walked once, and a
// file is told of once for each state that it has anywhere.
#pragma once

#include <unordered_map>
#include <unordered_set>

#include "filesystems/btrfs/former.h"
#include "filesystems/btrfs/subvolumes.h"
#include "filesystems/btrfs/writings.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::btrfs {

class BtrfsWalk : Walking {
  public:
    BtrfsWalk(const Nodes& nodes, const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
        : Walking(options, sink, warnings), nodes_(nodes) {}

    void run();

  private:
    struct Root : Subvolume {
        std::unordered_map<std::uint64_t, std::optional<Name>> folders;  // by inode; none: the tree has none of it
        std::unordered_map<std::uint64_t, bool> inodes;  // whether the tree has them, as far as that was asked
        bool shares_nodes = false;  // the others that it has stand in trees that were walked before
    };
    // What a tree tells of one file.
    struct File {
        explicit File(std::uint64_t inode_number = 0) : number(inode_number) {}

        std::uint64_t number;
        std::optional<Inode> inode;
        std::vector<Name> names;
        FileExtents extents;
        bool is_cut = false;  // a part of it stands in a node that was passed over

        void take(const Node::Entry& entry, std::uint64_t leaf_generation);
    };
    // A live file that shares its content with a former one.
    struct Twin {
        std::uint64_t id;
        std::string path;
    };

    void learn_tree(Root& root);
    bool has_inode(Root& root, std::uint64_t number) const;
    const std::optional<Name>& folder_in(Root& root, std::uint64_t number);
    void emit_tree(std::uint64_t id, const Root& root);
    File whole(const Root& root, std::uint64_t number) const;
    void emit_file(std::uint64_t id, const Root& root, const File& file);
    void walk_deleted();
    void emit_former(std::uint64_t root, std::uint64_t number, const FormerFile& file);
    void find_sums(Record& record, const FileExtents& extents, const std::vector<std::uint64_t>& logicals) const;
    void find_twin(Record& record, std::uint64_t number, const FormerFile& file) const;
    FolderPlace place_of(std::uint64_t root, std::uint64_t folder);
    static std::uint64_t id_of(std::uint64_t number, const Inode& inode);
    static std::uint64_t state_of(const File& file, std::uint64_t id);

    const Nodes& nodes_;

    std::map<std::uint64_t, Root> roots_;
    std::vector<std::uint64_t> order_;                              // of roots
    std::unordered_set<std::uint64_t> learned_nodes_, told_nodes_;  // logical addresses
    std::unordered_set<std::uint64_t> told_;  // a number for each state of a file that was told of
    Former former_;
    Writings writings_;
    std::unordered_set<std::uint64_t> wanted_ids_;                     // of former files
    std::unordered_map<std::uint64_t, std::uint64_t> wanted_extents_;  // of these: logical address and generation
    std::unordered_map<std::uint64_t, std::string> twins_;             // paths of live ones, by id
    std::unordered_map<std::uint64_t, std::pair<std::uint64_t, Twin>> holders_;  // by logical address, with generation
    unsigned damaged_trees_ = 0;
};

}  // namespace dredger::btrfs

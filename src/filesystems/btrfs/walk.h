// Everything that a Btrfs volume tells of its files: the live trees of all subvolumes, then what older generations of
// them still tell.
#pragma once

#include <unordered_map>
#include <unordered_set>

#include "filesystems/btrfs/former.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::btrfs {

class Walk : Walking {
  public:
    Walk(const Nodes& nodes, const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings)
        : Walking(options, sink, warnings), nodes_(nodes) {}

    void run();

  private:
    struct Root {
        std::uint64_t tree = 0;                // logical address
        std::uint64_t parent = 0, folder = 0;  // root, and inode in it, that list it
        std::string name;
        std::unordered_map<std::uint64_t, Name> folders;  // by inode
        std::unordered_set<std::uint64_t> inodes;
    };
    // A live file that shares its content with a former one.
    struct Twin {
        std::uint64_t id;
        std::string path;
    };

    void read_roots();
    void learn_tree(Root& root);
    void emit_tree(std::uint64_t id, const Root& root);
    void emit_file(std::uint64_t id, std::uint64_t number, const Inode& inode, const std::vector<Name>& names,
                   const FileExtents& extents);
    void walk_deleted();
    void emit_former(std::uint64_t root, std::uint64_t number, const FormerFile& file);
    void find_sums(Record& record, const std::vector<std::uint64_t>& logicals) const;
    void find_twin(Record& record, std::uint64_t number, const FormerFile& file) const;
    FolderPlace place_of(std::uint64_t root, std::uint64_t folder) const;
    static std::uint64_t id_of(std::uint64_t number, const Inode& inode);

    const Nodes& nodes_;

    std::map<std::uint64_t, Root> roots_;
    Former former_;
    std::unordered_set<std::uint64_t> wanted_ids_;                     // of former files
    std::unordered_map<std::uint64_t, std::uint64_t> wanted_extents_;  // of these: logical address and generation
    std::unordered_map<std::uint64_t, std::string> twins_;             // paths of live ones, by id
    std::unordered_map<std::uint64_t, std::pair<std::uint64_t, Twin>> holders_;  // by logical address, with generation
    unsigned damaged_trees_ = 0;
};

}  // namespace dredger::btrfs

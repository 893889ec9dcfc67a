// Everything that a container tells of its files: the live trees of all volumes, what stands in their snapshots alone,
// then what older transactions still tell.
#pragma once

#include <memory>
#include <unordered_map>
#include <unordered_set>

#include "filesystems/apfs/former.h"
#include "filesystems/apfs/volumes.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::apfs {

class ApfsWalk : Walking {
  public:
    ApfsWalk(const Container& container, const SpaceMap& space, const WalkOptions& options, RecordSink& sink,
             std::vector<std::string>& warnings)
        : Walking(options, sink, warnings), container_(container), blocks_(container.blocks()), space_(space) {}

    void run();

  private:
    struct Volume : VolumeAtHand {
        std::unordered_map<std::uint64_t, FormerName> folders;  // live ones, by inode
        std::unordered_set<std::uint64_t> live;                 // inodes
        std::unordered_set<std::uint64_t> in_snapshots;         // of those that are not live
        std::unordered_map<std::uint64_t, FormerName> snapshot_folders;
        Former former;
    };
    // What a tree tells of one file.
    struct File {
        std::uint64_t number = 0;
        std::optional<Inode> inode;
        std::vector<FormerName> names;
        std::vector<Attribute> attributes;
        std::vector<FileExtent> extents;

        void take(const VolumeTree::Entry& entry);
    };
    // Where a file's content comes from.
    using ExtentsOf = std::function<std::vector<FileExtent>(std::uint64_t stream)>;

    void learn(Volume& volume);
    void walk_live(Volume& volume);
    void walk_snapshot(Volume& volume, const Snapshot& snapshot);
    void look_for_nodes();
    void take_node(const Node& node);
    Volume* volume_of(const Node& node);
    void walk_former(Volume& volume);
    void each_file(const VolumeTree& tree, const std::function<void(const File&)>& visit);
    void emit_file(Volume& volume, const File& file, const VolumeTree& tree, const Snapshot* snapshot);
    void emit_former(Volume& volume, std::uint64_t number, const FormerFile& file);
    void emit_content(Record&& record, const Inode& inode, const std::vector<Attribute>& attributes,
                      const ExtentsOf& extents_of);
    void lay(Record& record, const Inode& inode, const std::vector<FileExtent>& extents) const;
    FolderPlace place_of(const Volume& volume, std::uint64_t folder) const;
    void find_twin(Record& record, const Inode& inode, const std::vector<FileExtent>& extents) const;

    const Container& container_;
    const Blocks& blocks_;
    const SpaceMap& space_;
    std::vector<Volume> volumes_;
    // Where the content of live files lies, by block.
    struct Held {
        std::uint64_t blocks = 0;
        std::uint64_t key = 0;  // FileEntry::content_key()
        bool is_clone = false;  // or was cloned
    };
    std::map<std::uint64_t, Held> held_;
    unsigned damaged_trees_ = 0;
};

}  // namespace dredger::apfs

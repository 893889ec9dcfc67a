// Walks all directories of a FAT volume and hands over what it finds: first what is there, then what was deleted.
#pragma once

#include "filesystems/fat/deleted_tree.h"
#include "filesystems/tools/walking.h"

namespace dredger::fat {

class FatWalk : Walking {
  public:
    // Folders are read through a cache. All must outlive the walk.
    FatWalk(const MediumPtr& volume, const Geometry& geometry, const Table& table, const WalkOptions& options,
            RecordSink& sink, std::vector<std::string>& warnings);
    void run();
    // Of an earlier file system: all that its folders tell of was lost when the volume was formatted.
    void run_former();
    void leave_to_former() { deleted_.leave_continuations(); }

  private:
    void walk_live();
    std::vector<Slot> live_slots(const Folder& folder);
    void read_live(std::size_t folder, std::span<const Slot> slots);
    void take_live(std::size_t folder, const DirectoryItem& item);
    void note_folder_cluster(const Run& cluster, std::span<const Slot> slots);
    void emit_deleted();
    void read_former_root();

    Record record_of(const DirectoryItem& item, std::size_t folder, std::string name) const;
    std::uint64_t clusters_for(std::uint64_t bytes) const { return divide_up(bytes, geometry_.cluster_size); }

    MediumPtr volume_;
    const Geometry& geometry_;
    const Table& table_;
    Chains chains_;
    Layouts layouts_;
    std::vector<Folder> folders_;  // live ones first
    LiveHeads live_heads_;
    DeletedTree deleted_;
    bool is_former_ = false;
    std::uint64_t broken_chains_ = 0;
};

}  // namespace dredger::fat

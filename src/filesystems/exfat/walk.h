// Everything that the directories of an exFAT volume tell: live ones first, then deleted ones that are walked into,
// then those that nothing leads to any more.
#pragma once

#include <map>
#include <set>

#include "filesystems/exfat/chains.h"
#include "filesystems/exfat/entry_set.h"
#include "filesystems/tools/walking.h"

namespace dredger::exfat {

class ExfatWalk : Walking {
  public:
    ExfatWalk(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space, const Upcase& upcase,
              const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    struct Folder {
        std::string path;
        std::vector<Run> runs;
        bool deleted = false;
        bool lost = false;  // a name in its path is not known
    };
    struct Deleted {
        EntrySet set;
        std::size_t folder;  // in folders_
        std::vector<Run> runs;
        LayoutTrust trust = LayoutTrust::exact;
        std::vector<std::string> notes;
        bool is_marked = true;  // as deleted, and not only what it lies in
    };
    // What a live and a deleted entry of the same file have in common.
    using Content = std::tuple<std::uint32_t, std::uint64_t>;  // first cluster, bytes

    void read_folder(std::size_t folder);
    std::vector<Slot> slots_of(const Folder& folder);
    void take_live(std::size_t folder, const EntrySet& set);
    void take_deleted(std::size_t folder, EntrySet&& set, bool is_marked = true);
    bool is_earlier_name(const EntrySet& set) const;
    Chain chain_of(std::uint32_t first, std::uint64_t count);
    void place(Deleted& file);
    void follow_deleted();
    void walk_into(std::size_t deleted);  // in deleted_
    void read_lost_folders();
    std::vector<std::uint32_t> find_lost_folders() const;
    std::vector<EntrySet> sets_in(std::uint32_t cluster, std::uint64_t bytes) const;
    bool begins_folder(std::uint32_t cluster) const;
    void emit_deleted();
    Record record_of(const EntrySet& set, const Folder& folder) const;
    bool taken(std::uint64_t cluster) const { return space_.taken(cluster - 2); }

    MediumPtr volume_;
    const Geometry& geometry_;
    const SpaceMap& space_;
    const Upcase& upcase_;
    Chains chains_;
    std::vector<Folder> folders_;
    std::set<std::uint32_t> folder_clusters_;  // that were read: folders that contain each other are read once
    std::set<Content> live_;
    std::vector<Deleted> deleted_;
    std::size_t next_deleted_ = 0;  // the first that was not placed yet
    std::uint64_t links_left_;      // that may still be followed or assumed: hostile entries cost no more than these
    std::uint64_t earlier_names_ = 0;
    std::uint64_t unreadable_ = 0;    // bytes of folders
    std::uint64_t damaged_sets_ = 0;  // live ones
};

}  // namespace dredger::exfat

// Walks all directories of a FAT volume, first the live ones, then the deleted ones, and works out names, places and
// layouts of what was deleted.
#pragma once

#include <set>

#include "filesystems/fat/folder_clusters.h"
#include "filesystems/filesystem.h"

namespace dredger::fat {

class Walk {
  public:
    // Folders are read through a cache; of files only the sectors that are needed. All must outlive the walk.
    Walk(const MediumPtr& volume, const Geometry& geometry, const Table& table, const WalkOptions& options,
         RecordSink& sink, std::vector<std::string>& warnings);
    void run();

  private:
    struct Folder {
        std::string path;
        std::uint32_t first_cluster;  // 0: the root
        bool lost = false;            // nothing leads to it any more: its own entry, or one above it, is overwritten
    };
    // A deleted entry, until its place is known.
    struct Deleted {
        DirectoryItem item;
        std::size_t folder;  // index into folders_
        std::string name;
        bool name_is_whole = true;
        std::uint32_t first_cluster = 0;
        bool extension_is_cut = false;  // the name, or its end, is a short one made for a long one
        std::optional<Fit> fit;         // of the content at first_cluster, where that was looked at
        std::vector<std::string> notes;
        std::vector<Run> runs;
        LayoutTrust trust = LayoutTrust::none;
    };
    // A deleted folder while it is read, cluster by cluster: what lies below it is read before it goes on, because what
    // was written in between tells where it went on.
    struct OpenFolder {
        std::size_t folder;       // index into folders_
        std::uint32_t first;      // its first cluster
        std::uint32_t current;    // the one read last
        std::vector<Slot> slots;  // of `current`, behind what the cluster before left unfinished
        std::vector<std::uint32_t> stale_chain;
        std::vector<ShortName> names;      // known ones, for inferring others
        std::vector<std::size_t> to_open;  // folders in it, indices into deleted_, the next one last
        std::uint64_t entries = 0;
        bool is_only_one = false;  // no other folder is left that clusters without one could belong to
    };
    struct LiveHead {
        std::uint32_t first_cluster;
        std::uint32_t size;
        std::uint32_t written;  // DIR_WrtDate and DIR_WrtTime
        auto operator<=>(const LiveHead&) const = default;
    };

    void walk_live();
    void walk_deleted();
    void lay_out_deleted();
    void emit_deleted();

    std::vector<Slot> live_slots(const Folder& folder);
    void read_live(std::size_t folder, std::span<const Slot> slots);
    void take_live(std::size_t folder, const DirectoryItem& item);
    void note_folder_cluster(const Run& cluster, std::span<const Slot> slots);

    void take_deleted(std::size_t folder, DirectoryItem item, const std::vector<ShortName>& neighbours);
    void walk_lost_folders();
    void resume_unfinished();
    void walk_deleted_folder(std::optional<OpenFolder> top);
    OpenFolder open_folder_at(std::uint32_t first, const std::string& path, bool lost);
    std::optional<OpenFolder> open_deleted_folder(std::size_t index);
    void read_deleted(OpenFolder& folder);
    bool extend(OpenFolder& folder);
    bool begins_folder(const Deleted& folder, std::uint32_t cluster, bool check_parent) const;
    std::uint32_t next_cluster(const OpenFolder& folder);
    std::uint32_t next_cluster_anywhere(const OpenFolder& folder);
    bool can_follow(const OpenFolder& folder, std::uint32_t cluster);
    bool subfolders_deny(std::uint32_t first, std::span<const Slot> slots) const;

    bool is_earlier_name(const DirectoryItem& item) const;
    void find_start(Deleted& file) const;
    void lengthen_extension(Deleted& file) const;
    Standing standing_of(const Deleted& file) const;
    bool ends_as_recorded(const std::vector<Run>& runs, std::uint64_t size) const;
    std::vector<Run> most_likely_layout(const Deleted& file, std::uint64_t count);
    Fit begins_as_named(const Deleted& file, std::uint32_t cluster) const;
    Record record_of(const DirectoryItem& item, std::size_t folder, std::string name) const;
    std::uint64_t clusters_for(std::uint64_t bytes) const { return divide_up(bytes, geometry_.cluster_size); }
    void emit(Record&& record);

    MediumPtr volume_;
    const Geometry& geometry_;
    const Table& table_;
    const WalkOptions& options_;
    RecordSink& sink_;
    std::vector<std::string>& warnings_;
    Chains chains_;
    Layouts layouts_;
    FolderClusters folder_clusters_;
    std::vector<Folder> folders_;
    std::vector<OpenFolder> unfinished_;  // whose last cluster is full, though no other was found
    std::vector<Deleted> deleted_;
    std::vector<LiveHead> live_heads_;      // sorted once the live tree is walked
    std::set<std::uint32_t> ends_;          // clusters right behind the files that deleted entries tell of
    std::set<std::uint32_t> known_starts_;  // first clusters that deleted entries tell in full
    bool high_halves_kept_ = false;         // by the system that deleted here, as some entry shows
    std::uint64_t probes_left_;             // clusters that may still be looked at for the rest of a folder
    bool stopped_ = false;
    std::uint64_t broken_chains_ = 0;
    std::uint64_t earlier_names_ = 0;
};

}  // namespace dredger::fat

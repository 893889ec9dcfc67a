// The deleted files and folders of a volume: collects their entries, opens deleted folders without a chain to follow,
// and gives everything its name and path.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <vector>

#include "filesystems/fat/folder_clusters.h"
#include "filesystems/filesystem.h"

namespace dredger::fat {

struct Folder {
    std::string path;             // empty: the root
    std::uint32_t first_cluster;  // 0: the root
    bool lost = false;            // nothing leads to it any more: its own entry, or one above it, is overwritten
    bool formatted = false;       // a root, or a folder below it, of before the volume was formatted
};

// A deleted entry, until its place is known.
struct Deleted {
    DirectoryItem item;
    std::size_t folder;  // index into the folders of the walk
    std::string name;
    bool name_is_whole = true;
    std::uint32_t first_cluster = 0;
    bool extension_is_cut = false;  // the name, or its end, is a short one made for a long one
    std::optional<Agreement> head;  // of the content at first_cluster, where that was looked at
    std::vector<std::string> notes;
    std::vector<Run> runs;
    LayoutTrust trust = LayoutTrust::none;
};

// Date and time of the last change, as one number.
inline std::uint32_t write_stamp(const DirectoryEntry& e) { return std::uint32_t{e.DIR_WrtDate} << 16 | e.DIR_WrtTime; }

// Where live files and folders begin. A deleted entry that tells the same place, size and time of change is what
// renaming or moving left behind, not a deleted file.
class LiveHeads {
  public:
    void add(std::uint32_t first_cluster, std::uint32_t size, std::uint32_t stamp);
    void seal();
    bool hold(const DirectoryEntry& entry) const;

  private:
    struct Head {
        std::uint32_t first_cluster;
        std::uint32_t size;
        std::uint32_t stamp;
        auto operator<=>(const Head&) const = default;
    };
    std::vector<Head> heads_;
};

class DeletedTree {
  public:
    // All must outlive it. `folders` gets the deleted folders as they are opened.
    DeletedTree(const MediumPtr& volume, const Geometry& geometry, const Table& table, CodePage code_page,
                Chains& chains, Layouts& layouts, std::vector<Folder>& folders);

    // A deleted entry of a folder, with the whole short names around it.
    void take(std::size_t folder, DirectoryItem item, const std::vector<ShortName>& neighbours);

    // From the entries taken so far down into deleted folders, and into those that nothing leads to any more.
    void walk(const LiveHeads& live);

    // The root of a former file system: its first cluster, where that still stands.
    void take_former_root(std::vector<Slot> slots) { former_root_ = std::move(slots); }

    // Clusters of folders without a beginning are left alone: they are an earlier file system's.
    void leave_continuations() { leaves_continuations_ = true; }

    std::vector<Deleted>& files() { return files_; }  // and folders
    std::uint64_t earlier_names() const { return earlier_names_; }

  private:
    // A deleted folder while it is read, cluster by cluster: what lies below it is read before it goes on, because what
    // was written in between tells where it went on.
    struct OpenFolder {
        std::size_t folder;       // index into folders_
        std::uint32_t first;      // its first cluster
        std::uint32_t current;    // the one read last
        std::vector<Slot> slots;  // of `current`, behind what the cluster before left unfinished
        std::vector<std::uint32_t> stale_chain;
        std::vector<ShortName> names;      // known ones, for inferring others
        std::vector<std::size_t> to_open;  // folders in it, indices into files_, the next one last
        std::uint64_t entries = 0;
        bool is_only_one = false;  // no other folder is left that clusters without one could belong to
        bool is_root = false;
    };

    void walk_former_root();
    std::uint32_t next_of_root(std::uint32_t behind) const;
    bool is_root(const Folder& folder) const;
    void resume_unfinished();
    void walk_lost_folders();
    void walk_deleted_folder(std::optional<OpenFolder> top);
    std::optional<OpenFolder> open_deleted_folder(std::size_t index);
    OpenFolder open_folder(Folder folder);
    void read_deleted(OpenFolder& folder);
    std::uint32_t cluster_behind(const DirectoryEntry& entry) const;
    bool extend(OpenFolder& folder);
    bool begins_folder(const Deleted& folder, std::uint32_t cluster) const;
    std::uint32_t next_cluster(const OpenFolder& folder);
    std::uint32_t next_cluster_anywhere(const OpenFolder& folder);
    bool can_follow(const OpenFolder& folder, std::uint32_t cluster);
    std::optional<std::uint32_t> parent_told_below(const Slot& slot) const;
    bool subfolders_deny(std::uint32_t first, std::span<const Slot> slots) const;
    std::uint64_t clusters_for(std::uint64_t bytes) const { return divide_up(bytes, geometry_.cluster_size); }

    const MediumPtr& volume_;
    const Geometry& geometry_;
    const Table& table_;
    CodePage code_page_;
    Chains& chains_;
    Layouts& layouts_;
    std::vector<Folder>& folders_;
    const LiveHeads* live_ = nullptr;
    FolderClusters folder_clusters_;
    std::vector<Deleted> files_;
    std::vector<OpenFolder> unfinished_;  // whose last cluster is full, though no other was found
    std::set<std::uint32_t> ends_;        // clusters right behind the files that deleted entries tell of
    std::uint64_t probes_left_;
    std::uint64_t earlier_names_ = 0;
    bool leaves_continuations_ = false;
    std::vector<Slot> former_root_;
};

}  // namespace dredger::fat

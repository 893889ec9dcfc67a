// Where the content of deleted files lies. Deletion clears the chain and leaves the first cluster; the rest follows
// from what else was on the volume when the file was written.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <vector>

#include "base/times.h"
#include "filesystems/fat/table.h"

namespace dredger::fat {

// Clusters [first, first + count).
struct Run {
    std::uint32_t first = 0;
    std::uint32_t count = 0;
    bool operator==(const Run&) const = default;
};

// Clusters to the thing that owns them; a later claim takes over what an earlier one had.
template <class Owner>
class RunMap {
  public:
    void assign(std::uint32_t first, std::uint32_t count, const Owner& owner) {
        if (count == 0) return;
        split(first);
        split(first + count);
        runs_.erase(runs_.lower_bound(first), runs_.lower_bound(first + count));
        runs_.emplace(first, Held{first + count, owner});
    }
    const Owner* find(std::uint32_t cluster) const {
        auto it = runs_.upper_bound(cluster);
        if (it == runs_.begin()) return nullptr;
        --it;
        return cluster < it->second.end ? &it->second.owner : nullptr;
    }

  private:
    struct Held {
        std::uint32_t end;
        Owner owner;
    };
    void split(std::uint32_t at) {
        auto it = runs_.upper_bound(at);
        if (it == runs_.begin()) return;
        --it;
        if (it->first == at || it->second.end <= at) return;
        Held tail = it->second;
        it->second.end = at;
        runs_.emplace(at, std::move(tail));
    }
    std::map<std::uint32_t, Held> runs_;
};

// How sure it is that a deleted file's content is still all there.
enum class Standing {
    no,
    likely,  // text where text should be, and an end where it should be
    yes,     // its format's signature
};

// What is known of the clusters, and the rule by which a deleted file is laid out over them:
// - it skips what live files older than itself hold: they were in its way when it was written;
// - it does not skip what newer live files hold: they have taken its place since;
// - it skips folders that still stand, and older deleted files whose content still begins as their names say;
// - it never skips where it begins itself.
class Layouts {
  public:
    Layouts(const Table& table, const Geometry& geometry);

    void add_live(const std::vector<Run>& runs, const std::optional<FileTime>& written);
    void add_deleted_folder(std::uint32_t cluster);
    void add_deleted_file(const std::vector<Run>& runs, Standing standing);

    // `count` clusters from `first` on; fewer where the volume has no more. Skips only those deleted files that stand
    // as surely as `least`. `first` must be held by the geometry.
    std::vector<Run> lay_out(std::uint32_t first, std::uint64_t count, const std::optional<FileTime>& written,
                             Standing least);

    bool is_deleted_folder(std::uint32_t cluster) const;

  private:
    struct LiveRun {
        std::uint32_t first;
        std::uint32_t count;
        FileTime written;
        bool dated;
    };
    const LiveRun* live_at(std::uint32_t cluster);

    const Table& table_;
    const Geometry& geometry_;
    std::vector<LiveRun> live_;
    bool sorted_ = true;
    struct DeletedOwner {
        std::size_t file;  // counts up; kFolder for folders
        Standing standing;
    };
    static constexpr std::size_t kFolder = ~std::size_t{0};
    RunMap<DeletedOwner> deleted_;
    std::size_t files_ = 0;
    std::uint64_t steps_left_;
};

}  // namespace dredger::fat

// The newest checkpoint of an F2FS volume and the tables that it completes: where each node lies, which blocks are in
// use, which segments hold nodes.
// Source: Documentation/filesystems/f2fs.rst, "On-disk Layout"; fs/f2fs/checkpoint.c, node.c and segment.c of Linux.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "filesystems/f2fs/superblock.h"
#include "filesystems/space_map.h"
#include "media/cached.h"

namespace dredger::f2fs {

class Tables {
  public:
    // Reads the tables of what is in use. Without any whole checkpoint nothing is in use and nothing known of nodes;
    // that is added to `warnings`.
    static Tables read(MediumPtr volume, const Geometry& geometry, std::vector<std::string>& warnings);

    bool has_checkpoint() const { return version_ != 0; }
    bool was_unmounted() const { return was_unmounted_; }
    // The lower half of its number, as nodes bear it that are written for the next one.
    std::uint32_t version() const { return version_; }
    const SpaceMap& space() const { return space_; }

    // Where a node lies, as a number of a block; 0: it is not in use.
    std::uint32_t block_of(std::uint32_t node) const;
    // Whether nodes were written to a segment last, as far as is known.
    bool holds_nodes(std::uint32_t segment) const;

  private:
    Tables(MediumPtr volume, const Geometry& geometry)
        : volume_(std::make_shared<Cached>(std::move(volume))),
          geometry_(geometry),
          space_(std::uint64_t{geometry.main_at} * kBlock, kBlock, geometry.main_blocks()) {}

    struct Pack {
        std::uint32_t at = 0;  // its first block
        CheckpointHead head{};
        std::vector<std::byte> bytes;  // the first block and the payload
    };
    std::optional<Pack> pack_at(std::uint32_t at) const;
    void take(const Pack& pack, std::vector<std::string>& warnings);
    void read_journals(const Pack& pack);
    void read_usage();
    std::vector<std::byte> block(std::uint64_t number) const;

    MediumPtr volume_;
    Geometry geometry_;
    SpaceMap space_;
    std::uint32_t version_ = 0;
    bool was_unmounted_ = true;
    std::vector<std::byte> node_bitmap_, usage_bitmap_;  // which of the two copies of a table's block counts
    std::map<std::uint32_t, NatEntry> newer_nodes_;      // from the journals
    std::map<std::uint32_t, SitEntry> newer_usage_;
    std::vector<std::uint32_t> open_segments_;  // of nodes: their summaries are not written yet
};

}  // namespace dredger::f2fs

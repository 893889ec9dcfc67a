// Where the content of files lies of which only their first, empty record is left. Files get their numbers and their
// blocks in the same order: what stands on free ground between the blocks of the file with the number before and those
// of the one with the number behind is theirs, as far as it goes with their names.
#pragma once

#include <map>
#include <optional>
#include <vector>

#include "filesystems/filesystem.h"
#include "filesystems/hfsplus/volume.h"

namespace dredger::hfsplus {

struct Placed {
    std::uint64_t start = 0;  // bytes, on the volume
    std::uint64_t size = 0;   // bytes
    bool is_proven = false;   // its format says where it ends
    bool is_sure = true;      // false: it may be the content of another file, whose name is lost
};

class Placing {
  public:
    Placing(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space, const WalkOptions& options)
        : volume_(volume), geometry_(geometry), space_(space), options_(options) {}

    // A file of which it is known where its content lies.
    void add_known(std::uint32_t id, const Fork& data);
    // Whoever else has a number: it has no content of its own.
    void add_other(std::uint32_t id) { ids_[id]; }
    void add_wanted(std::uint32_t id, std::string_view name);

    std::map<std::uint32_t, Placed> place() const;

  private:
    struct Blocks {
        std::uint64_t first = 0, end = 0;  // on the volume
        bool fills_last = false;           // the content ends where its last block does
    };
    struct Numbered {
        std::optional<Blocks> blocks;  // where its content lies, as far as that is known and in one piece
        std::string wanted;            // the name of a file whose content is looked for
    };
    using Place = std::map<std::uint32_t, Numbered>::const_iterator;

    void place_between(Place before, Place behind, std::map<std::uint32_t, Placed>& placed) const;
    bool starts_something(const Blocks& before) const;
    std::uint64_t free_until(std::uint64_t block, std::uint64_t end) const;
    std::optional<Placed> placed_at(std::string_view name, const Extent& ground, bool alone, bool all_known) const;
    std::optional<std::uint64_t> only_start(std::string_view name, const Extent& ground) const;
    std::uint64_t first_end(const Extent& ground) const;
    std::size_t ends_on(const Extent& ground, std::size_t most) const;

    const MediumPtr& volume_;
    const Geometry& geometry_;
    const SpaceMap& space_;
    const WalkOptions& options_;
    std::map<std::uint32_t, Numbered> ids_;
    mutable std::uint64_t left_ = std::uint64_t{512} << 20;  // bytes that are still looked at for ends
    std::map<std::uint64_t, std::uint64_t> held_;            // by first block, the blocks that known files have or had
};

}  // namespace dredger::hfsplus

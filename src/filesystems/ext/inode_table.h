// The inodes as they stand now.
#pragma once

#include "filesystems/ext/groups.h"
#include "filesystems/ext/inode.h"
#include "filesystems/ext/journal.h"

namespace dredger::ext {

class InodeTable {
  public:
    // `volume` is as played_back() gives it; all that is referred to must outlive this.
    InodeTable(MediumPtr volume, const Geometry& geometry, const Groups& groups, const Journal& journal);

    // None where it can't be read or is no inode.
    std::optional<Inode> read(std::uint32_t number) const;

    // Whether its checksum is right.
    bool checks_out(std::uint32_t number) const;

    // Where its content lies by what stands on the volume now.
    Mapping map(const Inode& inode) const;

    struct Entry {
        Inode inode;
        bool in_table = true;  // false: it stands in a part of the table that the file system never used
    };
    // Shows every inode that was ever in use, and those that an earlier file system left in parts of the tables that
    // this one has not used yet. `visit` gives false to end; `done` is told of every block group.
    void each(const std::function<bool(const Entry&)>& visit,
              const std::function<bool(std::uint64_t group)>& done) const;

  private:
    bool each_in(std::uint64_t group, std::uint64_t from, std::uint64_t count, bool in_table,
                 const std::function<bool(const Entry&)>& visit) const;
    std::optional<Inode> parse(ByteView bytes, std::uint32_t number) const;

    MediumPtr volume_;
    MediumPtr cached_;
    const Geometry& geometry_;
    const Groups& groups_;
    const Journal& journal_;
};

}  // namespace dredger::ext

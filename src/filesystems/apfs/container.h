// The container: its checkpoints, what they keep in memory, and which of its blocks are in use.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "filesystems/apfs/node.h"
#include "filesystems/apfs/object_map.h"
#include "filesystems/space_map.h"

namespace dredger::apfs {

// None where it is no container's superblock. Its checksum is not looked at.
std::optional<NxSuperblock> parse_superblock(ByteView block);

// A volume as one checkpoint has it.
struct VolumeState {
    ApfsSuperblock super;
    std::string name;

    std::uint64_t oid() const { return super.apfs_o.o_oid; }
    bool is_encrypted() const { return (super.apfs_fs_flags & APFS_FS_UNENCRYPTED) == 0; }
};

class Container {
  public:
    static std::optional<Container> open(const MediumPtr& container, std::vector<std::string>& warnings);

    const Blocks& blocks() const { return blocks_; }
    // Of the newest checkpoint that makes sense.
    const NxSuperblock& super() const { return checkpoints_.front(); }
    // That one, and all older ones that still stand, the newest first.
    const std::vector<NxSuperblock>& checkpoints() const { return checkpoints_; }
    std::vector<VolumeState> volumes_of(const NxSuperblock& checkpoint) const;

    // The blocks in use. Those that wait to be given back hold nothing any more. False: a part of the map is damaged.
    bool read_space(SpaceMap& space) const;

  private:
    Container(Blocks blocks, std::vector<NxSuperblock> checkpoints)
        : blocks_(std::move(blocks)), checkpoints_(std::move(checkpoints)) {}

    std::map<std::uint64_t, std::uint64_t> ephemeral_objects() const;
    std::vector<Extent> freed_blocks(const SpacemanPhys& spaceman,
                                     const std::map<std::uint64_t, std::uint64_t>& objects) const;
    void read_free_queue(std::uint64_t paddr, const std::map<std::uint64_t, std::uint64_t>& objects, unsigned level,
                         std::set<std::uint64_t>& seen, std::vector<Extent>& freed) const;

    Blocks blocks_;
    std::vector<NxSuperblock> checkpoints_;
};

}  // namespace dredger::apfs

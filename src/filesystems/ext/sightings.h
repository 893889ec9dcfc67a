// Where names of files that are gone were seen: in directory blocks as the journal kept them, in blocks that removed
// directories left, and in room that directories have given up.
#pragma once

#include <map>
#include <unordered_map>

#include "filesystems/ext/lives.h"

namespace dredger::ext {

struct Sighting {
    std::uint32_t folder = 0;  // inode of the directory
    std::uint32_t inode = 0;
    std::string name;  // as it stands there
    FileType type = FileType::unknown;
    std::optional<std::uint32_t> sequence;  // the last transaction that saw it; none: it was seen on the volume itself
};

// The directories that blocks belong to or once did.
class BlockOwners {
  public:
    void add(std::uint64_t block, std::uint32_t folder, std::uint32_t generation, bool live);
    void seal();

    struct Owner {
        std::uint64_t block;
        std::uint32_t folder, generation;
        bool live;
    };
    std::span<const Owner> of(std::uint64_t block) const;
    const std::vector<Owner>& all() const { return owners_; }

  private:
    std::vector<Owner> owners_;
};

class Sightings {
  public:
    Sightings(const Geometry& geometry, const BlockOwners& owners) : geometry_(geometry), owners_(owners) {}

    // Directory blocks among the journal's copies.
    void read_journal(const Journal& journal, const Groups& groups);
    // A block of the volume as it stands.
    void read_block(ByteView block);
    // Entries of a directory whose inode is known.
    void take(std::uint32_t folder, const DirectoryBlock& block, std::optional<std::uint32_t> sequence);

    // Every name once, as it was seen last, but those that `is_live` knows; by folder.
    std::vector<Sighting> finish(const std::function<bool(const Sighting&)>& is_live);

  private:
    std::uint32_t folder_of(std::uint64_t block, ByteView bytes, const DirectoryBlock& read) const;
    bool is_of(ByteView bytes, std::uint32_t folder, std::uint32_t generation) const;

    const Geometry& geometry_;
    const BlockOwners& owners_;
    std::map<std::pair<std::uint32_t, std::string>, std::vector<Sighting>> seen_;  // by folder and name
    std::size_t count_ = 0;
};

}  // namespace dredger::ext

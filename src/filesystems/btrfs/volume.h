// The nodes of a Btrfs volume: its superblock, where its logical addresses lie, and walks through its trees.
#pragma once

#include <array>
#include <functional>
#include <optional>
#include <string>
#include <unordered_set>
#include <vector>

#include "base/bytes.h"
#include "filesystems/btrfs/structures.h"
#include "media/medium.h"

namespace dredger::btrfs {

struct Geometry {
    std::array<std::byte, 16> fsid{};
    std::uint64_t generation = 0;
    std::uint64_t root = 0, chunk_root = 0;  // logical addresses
    std::uint64_t total_bytes = 0;
    std::uint64_t devices = 1;
    std::uint64_t devid = 1;
    std::uint32_t sector_size = 4096, node_size = 16384;  // bytes
    bool has_crc = true;                                  // false: another checksum, which is not looked at
    std::vector<std::pair<Key, std::vector<std::byte>>> system_chunks;
    std::vector<BackupRoot> backups;
    std::string label;
};

// `bytes`: kSuperBlockSize bytes of a superblock or a mirror of it. None where it makes no sense.
std::optional<Geometry> parse_superblock(ByteView bytes);

// A run of logical addresses and where it lies on this device.
struct ChunkPlace {
    std::uint64_t logical = 0, length = 0;  // bytes
    std::uint64_t type = 0;
    std::vector<std::uint64_t> copies;  // bytes, on the volume
    bool holds_nodes() const { return (type & (BLOCK_GROUP_SYSTEM | BLOCK_GROUP_METADATA)) != 0; }
};

// A range of the address space that chunks lead from to the volume.
struct LogicalRange {
    std::uint64_t logical = 0, length = 0;  // bytes
    std::uint64_t end() const { return logical + length; }
};

class ChunkMap {
  public:
    // What makes no sense is left out. False where it lies on other devices, or striped over several.
    bool add(const Key& key, ByteView chunk, std::uint64_t devid, std::uint64_t volume_size);
    // One by one; a logical range may cross chunks. Of several copies the one with number `copy`. Holes where it leads
    // nowhere.
    std::vector<Extent> places_of(std::uint64_t logical, std::uint64_t length, std::size_t copy = 0) const;
    std::size_t copies_of(std::uint64_t logical) const;
    const std::vector<ChunkPlace>& all() const { return chunks_; }  // by logical address

  private:
    const ChunkPlace* chunk_of(std::uint64_t logical) const;
    std::vector<ChunkPlace> chunks_;
};

// A leaf or an inner node, with its bytes.
class Node {
  public:
    Node(Header header, std::vector<std::byte> bytes, std::uint64_t place)
        : header_(header), bytes_(std::move(bytes)), place_(place) {}

    const Header& header() const { return header_; }
    std::size_t count() const;
    // Of a leaf: none where the item reaches out of it.
    struct Entry {
        Key key;
        ByteView data;  // its origin is its place on the volume
    };
    std::optional<Entry> item(std::size_t index) const;
    Key key(std::size_t index) const;
    // Of an inner node.
    std::optional<KeyPointer> pointer(std::size_t index) const;

  private:
    Header header_;
    std::vector<std::byte> bytes_;
    std::uint64_t place_;
};

class Nodes {
  public:
    Nodes(MediumPtr volume, const Geometry& geometry) : volume_(std::move(volume)), geometry_(geometry) {}

    // The chunk tree first: nothing else can be reached without it.
    bool read_chunks(std::vector<std::string>& warnings);
    const ChunkMap& chunks() const { return chunks_; }
    const Geometry& geometry() const { return geometry_; }
    const MediumPtr& volume() const { return volume_; }

    // Whether these bytes, node_size of them, are the node of logical address `logical`.
    std::optional<Node> parse(std::vector<std::byte>&& bytes, std::uint64_t logical, std::uint64_t place) const;
    // From any of its copies.
    std::optional<Node> read(std::uint64_t logical) const;

    // Every item of a tree, in order, until `visit` says false. False: a part of it can't be read. Nodes that `enter`
    // says false of are passed over, with all that is below them.
    using Visit = std::function<bool(const Node::Entry&, const Header&)>;
    using Enter = std::function<bool(std::uint64_t logical)>;
    bool walk(std::uint64_t root, const Visit& visit, const Enter& enter = {}) const;
    // The same from the first item on whose key is not less than `from`.
    bool walk_from(std::uint64_t root, const Key& from, const Visit& visit) const;

  private:
    bool walk_tree(std::uint64_t root, const Key* from, const Visit& visit, const Enter& enter) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    ChunkMap chunks_;
};

}  // namespace dredger::btrfs

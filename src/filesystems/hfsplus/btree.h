// The B-trees of HFS Plus: files of nodes of one size, the first of which tells of the others (TN1150, "B-Trees").
#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "filesystems/hfsplus/structures.h"
#include "filesystems/hfsplus/volume.h"
#include "media/content.h"

namespace dredger::hfsplus {

// A node whose table of records makes sense.
class Node {
  public:
    // `bytes`: all of it; `place`: of its first byte, on the volume.
    static std::optional<Node> parse(std::vector<std::byte>&& bytes, std::uint64_t place);

    const NodeDescriptor& descriptor() const { return descriptor_; }
    std::size_t count() const { return offsets_.size() - 1; }
    ByteView record(std::size_t index) const;
    // What lies behind its last record: remains of others stand there.
    ByteView free_space() const;
    // All but its descriptor and table.
    ByteView all_records() const;
    // Of an index node's record, behind its key.
    std::optional<std::uint32_t> child(std::size_t index) const;

  private:
    ByteView part(std::size_t from, std::size_t to) const;

    NodeDescriptor descriptor_{};
    std::vector<std::byte> bytes_;
    std::uint64_t place_ = 0;
    std::vector<std::uint16_t> offsets_;  // of the records and of the free space
};

class Btree {
  public:
    // Where its file is empty or its header node makes no sense it has no nodes.
    Btree(const MediumPtr& volume, const std::vector<Extent>& places);

    bool is_there() const { return node_size_ != 0; }
    std::uint32_t root() const { return root_; }
    std::uint32_t node_size() const { return node_size_; }  // bytes
    std::uint64_t nodes() const { return nodes_; }
    std::optional<Node> read(std::uint64_t number) const;
    // Whether the tree's own map says that the node is in use; true where the map can't be read.
    bool is_used(std::uint64_t number) const;

    // Visits the leaves that today's tree has, in order; where a part of it can't be read, all others of the file that
    // are in use come behind them. False ends it. Whether all could be read.
    bool each_leaf(const std::function<bool(const Node&, std::uint64_t number)>& visit) const;

  private:
    void read_map(Node node);

    Content file_;
    std::uint32_t root_ = 0, node_size_ = 0;
    std::uint64_t nodes_ = 0;
    std::vector<std::byte> map_;  // a bit for each node, the highest of each byte first
};

}  // namespace dredger::hfsplus

// What lies in a node's data: a heap ([MS-PST] 2.3.1), trees of records in it (2.3.2), properties (2.3.3) and tables
// (2.3.4).
#pragma once

#include <functional>
#include <map>
#include <optional>

#include "stores/mapi/properties.h"
#include "stores/pst/database.h"

namespace dredger::stores::pst {

// A node, with its subnodes.
class NodeHeap {
  public:
    NodeHeap(const Database& database, std::uint64_t bidData, std::uint64_t bidSub);

    // Whether its first block is a heap of this kind.
    bool is(std::uint8_t client_signature) const;
    std::uint32_t user_root() const;

    // Bytes of the heap by their id; none where they can't be had.
    std::optional<ByteView> item(std::uint32_t hid) const;
    // What a value's id stands for: an item of the heap, or the data of a subnode.
    mapi::Value value(mapi::Type type, std::uint32_t hnid) const;
    // The blocks of what an id stands for, each with whole rows of a table.
    std::vector<ByteView> blocks_of(std::uint32_t hnid) const;

    // Every record of a tree: its key and its data.
    void each_record(std::uint32_t hid, const std::function<void(std::uint64_t key, ByteView data)>& visit) const;

    const std::map<std::uint32_t, Node>& subnodes() const { return subnodes_; }
    // Whether all that was asked for was there.
    bool was_whole() const { return was_whole_; }

  private:
    std::optional<ByteView> data_block(std::size_t number) const;

    const Database& database_;
    Database::DataTree tree_;
    std::map<std::uint32_t, Node> subnodes_;
    mutable std::map<std::size_t, std::optional<std::vector<std::byte>>> blocks_;
    mutable std::vector<std::vector<std::byte>> row_blocks_;
    mutable bool was_whole_ = true;
};

// The properties of a node (PC); empty where it has none.
mapi::Properties properties_of(const NodeHeap& heap);

// The rows of a table (TC), each with its id (of a contents table: of the message).
struct Row {
    std::uint32_t id = 0;
    mapi::Properties properties;
};
std::vector<Row> rows_of(const NodeHeap& heap);
// Only the ids of its rows.
std::vector<std::uint32_t> row_ids(const NodeHeap& heap);

}  // namespace dredger::stores::pst

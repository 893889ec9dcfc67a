// The lower layers of a store ([MS-PST] 2.2): its nodes, and the blocks that their data lies in. What its two B-trees
// no longer tell is found by the trailers that each page and block bears.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <unordered_map>

#include "media/medium.h"
#include "stores/pst/pages.h"

namespace dredger::stores::pst {

class Database {
  public:
    // Null where `file` is no store. Where its header is lost it is recognised by its pages, if `is_told` of.
    static Result<std::unique_ptr<Database>> open(MediumPtr file, bool is_told);

    Form form() const { return geometry_.form; }
    std::uint8_t crypt_method() const { return crypt_; }
    std::uint64_t size() const { return file_->size(); }
    bool is_offline() const { return is_offline_; }

    // Whether header and B-trees are whole: else live nodes may be missing from nodes().
    bool is_whole() const { return is_whole_; }
    const std::vector<std::string>& warnings() const { return warnings_; }

    // The nodes of today, by id. Where the B-trees are damaged, the newest of each that any page tells of.
    const std::vector<Node>& nodes() const { return nodes_; }
    const Node* find(std::uint32_t nid) const;

    // Looks at every page and block of the file, once: what was deleted stands there until it is overwritten. `go_on`
    // is told of the bytes that are done and of all; false ends it, and what was found until then is kept.
    using GoOn = std::function<bool(std::uint64_t done, std::uint64_t total)>;
    void search_remains(const GoOn& go_on) const;
    // What only pages that are out of use tell of; the newest of each id that nodes() lacks. After search_remains().
    const std::vector<Node>& former_nodes() const { return former_; }
    // Blocks that hold the beginning of a message and no node tells of. After search_remains().
    const std::vector<std::uint64_t>& loose_messages() const { return loose_; }
    // Blocks of subnodes that no node tells of. After search_remains().
    const std::vector<std::uint64_t>& loose_subnodes() const { return loose_subnodes_; }

    // A block's bytes, unscrambled and unpacked; none where they can't be read or their sum is wrong.
    std::optional<std::vector<std::byte>> block(std::uint64_t bid) const;
    // How many bytes it gives, as far as anything tells.
    std::optional<std::uint32_t> size_of(std::uint64_t bid) const;

    // The blocks of a node's data in order; `total` the bytes that they should have together.
    struct DataTree {
        struct Piece {
            std::uint64_t start = 0;  // byte of the data
            std::uint64_t bid = 0;    // 0: it stands nowhere
            std::uint64_t length = 0;
        };
        std::vector<Piece> pieces;
        std::uint64_t total = 0;
        bool is_whole = true;  // every block stands somewhere
    };
    DataTree data_tree(std::uint64_t bid) const;
    // The data as a medium, which must not outlive this; what can't be had is bad there.
    MediumPtr open_data(DataTree tree) const;

    // Nodes within a node, by id (SLBLOCK, SIBLOCK).
    std::map<std::uint32_t, Node> subnodes(std::uint64_t bid, bool& whole) const;

    // Whether this block holds other blocks' ids.
    static bool is_internal(std::uint64_t bid) { return (bid & 2U) != 0; }

  private:
    Database(MediumPtr file, const Geometry& geometry) : file_(std::move(file)), geometry_(geometry) {}

    bool read_tree(const Bref& root, std::uint8_t kind);
    void rebuild_nodes();
    void guess_crypt_method();
    std::optional<TreePage> page_at(std::uint64_t ib) const;
    std::optional<BlockPlace> place_of(std::uint64_t bid) const;
    std::optional<std::vector<std::byte>> block_at(const BlockPlace& place) const;
    void look_at(ByteView stretch, std::uint64_t from) const;
    void look_for_page(ByteView bytes, std::uint64_t ib) const;
    void look_for_block(ByteView stretch, std::uint64_t base, std::uint64_t end) const;
    void sort_remains() const;
    void add_pieces(std::uint64_t bid, unsigned depth, DataTree& tree) const;
    void add_lost(std::uint64_t bid, std::uint64_t most, DataTree& tree) const;

    MediumPtr file_;
    const Geometry& geometry_;
    std::uint8_t crypt_ = NDB_CRYPT_NONE;
    bool is_offline_ = false, is_whole_ = true;
    std::vector<std::string> warnings_;
    std::vector<Node> nodes_;
    std::vector<BlockPlace> blocks_;  // by bid

    // What the search found.
    mutable bool is_searched_ = false;
    mutable std::vector<BlockPlace> found_blocks_;
    mutable std::vector<Node> found_nodes_, former_;
    mutable std::vector<std::uint64_t> loose_, loose_subnodes_;
};

}  // namespace dredger::stores::pst

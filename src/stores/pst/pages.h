// Pages and blocks of a store: how they are cut, summed and recognised in each form ([MS-PST] 2.2.2.7, 2.2.2.8).
#pragma once

#include <optional>
#include <vector>

#include "base/bytes.h"
#include "stores/pst/structures.h"

namespace dredger::stores::pst {

struct Geometry {
    Form form = Form::unicode;
    std::size_t page = 512;         // bytes of a page
    std::size_t page_trailer = 16;  // of its trailer
    std::size_t entries = 488;      // of a B-tree's page, before what tells of them
    std::size_t block_align = 64;   // blocks begin and end at multiples of this
    std::size_t block_trailer = 16;
    std::size_t id = 8;                // of an id or a place
    std::uint64_t header_nbt = 216;    // bytes of the header: BREFNBT
    std::uint64_t header_bbt = 232;    // BREFBBT
    std::uint64_t header_crypt = 513;  // bCryptMethod
};
const Geometry& geometry_of(Form form);

struct Bref {
    std::uint64_t bid = 0;
    std::uint64_t ib = 0;
};

// Where a block lies.
struct BlockPlace {
    std::uint64_t bid = 0;
    std::uint64_t ib = 0;
    std::uint32_t cb = 0;        // bytes that are stored
    std::uint32_t unpacked = 0;  // bytes that come out; the same where it is not packed
};

struct Node {
    std::uint32_t nid = 0;
    std::uint64_t bidData = 0;
    std::uint64_t bidSub = 0;
    std::uint32_t nidParent = 0;
    std::uint64_t age = 0;  // the id of the page that tells of it: it rises
};

// One page of the two B-trees whose sum and signature hold.
struct TreePage {
    std::uint8_t ptype = 0;
    std::uint64_t bid = 0;
    unsigned level = 0;
    std::vector<Bref> children;      // of a page above the leaves
    std::vector<BlockPlace> blocks;  // of a leaf of the block B-tree
    std::vector<Node> nodes;         // of a leaf of the node B-tree
};
// None where these bytes, which lie at `ib`, are no such page. Without a place only its sum tells that it is one.
std::optional<TreePage> tree_page(const Geometry& geometry, ByteView bytes, std::optional<std::uint64_t> ib);

struct BlockTrailer {
    std::uint32_t cb = 0;
    std::uint16_t wSig = 0;
    std::uint32_t dwCRC = 0;
    std::uint64_t bid = 0;
    std::uint32_t unpacked = 0;
};
BlockTrailer block_trailer(const Geometry& geometry, ByteView bytes);

// Bytes that a block takes with its trailer.
std::uint64_t space_of(const Geometry& geometry, std::uint64_t cb);

}  // namespace dredger::stores::pst

// Objects, and the nodes of B-trees among them.
#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "base/bytes.h"
#include "filesystems/apfs/structures.h"
#include "media/medium.h"

namespace dredger::apfs {

// The checksum of an object ("Fletcher 64"): of all behind its first eight bytes, where it stands.
std::uint64_t sum_of(std::span<const std::byte> object);
bool has_right_sum(std::span<const std::byte> object);

// Block by block. All that is read is verified.
class Blocks {
  public:
    Blocks(MediumPtr container, std::uint32_t block_size) : container_(std::move(container)), size_(block_size) {}

    const MediumPtr& container() const { return container_; }
    std::uint32_t size() const { return size_; }  // bytes of one
    std::uint64_t place_of(std::uint64_t paddr) const { return checked_mul(paddr, size_).value_or(UINT64_MAX); }
    // The object of one block there; none where its checksum is wrong, or its type is another one.
    std::optional<std::vector<std::byte>> object(std::uint64_t paddr, std::uint32_t type) const;
    std::optional<std::vector<std::byte>> raw(std::uint64_t paddr) const;

  private:
    MediumPtr container_;
    std::uint32_t size_;
};

// A node whose table makes sense.
class Node {
  public:
    // `bytes`: a block; `place`: of its first byte. Fixed sizes of keys and values are told by the root alone, so that
    // who reads a tree of such gives them.
    static std::optional<Node> parse(std::vector<std::byte>&& bytes, std::uint64_t place, std::size_t key_size = 0,
                                     std::size_t value_size = 0);

    const BtreeNodePhys& header() const { return header_; }
    std::uint64_t xid() const { return header_.btn_o.o_xid; }
    bool is_leaf() const { return header_.btn_level == 0; }
    std::size_t count() const { return entries_.size(); }
    ByteView key(std::size_t index) const { return part(entries_[index].key, entries_[index].key_size); }
    ByteView value(std::size_t index) const { return part(entries_[index].value, entries_[index].value_size); }
    // All keys and values, and what is left of others between them: keys from the start on, values from the end back.
    ByteView area() const { return part(area_at_, area_size_); }
    // Where the parts of the area lie that are in use or were given back, in bytes from its start: of the keys from the
    // start on, of the values from the end back. What was given back has its first four bytes overwritten.
    struct Tile {
        std::size_t at = 0, size = 0;      // bytes
        std::optional<std::size_t> entry;  // none: it was given back
    };
    std::vector<Tile> key_tiles() const;
    std::vector<Tile> value_tiles() const;
    // Of a node that is no leaf: the object below.
    std::optional<std::uint64_t> child(std::size_t index) const;

  private:
    struct Entry {
        std::uint32_t key, key_size, value, value_size;  // bytes
    };
    std::vector<Tile> given_back(const Nloc& list, bool from_end) const;
    ByteView part(std::size_t from, std::size_t size) const {
        return ByteView(std::span<const std::byte>(bytes_).subspan(from, size), place_ + from);
    }

    BtreeNodePhys header_{};
    std::vector<std::byte> bytes_;
    std::uint64_t place_ = 0;
    std::size_t area_at_ = 0, area_size_ = 0;
    std::vector<Entry> entries_;
};

}  // namespace dredger::apfs

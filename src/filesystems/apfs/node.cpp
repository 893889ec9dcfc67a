#include "filesystems/apfs/node.h"

#include <algorithm>

#include "volumes/trace.h"

namespace dredger::apfs {

namespace {

constexpr std::size_t kSum = 8;  // bytes

}  // namespace

std::uint64_t sum_of(std::span<const std::byte> object) {
    constexpr std::uint64_t kModulus = 0xFFFFFFFF;
    constexpr std::size_t kAtOnce = 4096;  // words between two divisions
    std::uint64_t first = 0, second = 0;
    std::size_t words = 0;
    for (std::size_t at = kSum; at + 4 <= object.size(); at += 4) {
        little_uint32_t word;
        std::memcpy(&word, object.data() + at, sizeof(word));
        first += word;
        second += first;
        if (++words % kAtOnce != 0) continue;
        first %= kModulus;
        second %= kModulus;
    }
    first %= kModulus;
    second %= kModulus;
    const std::uint64_t low = kModulus - (first + second) % kModulus;
    const std::uint64_t high = kModulus - (first + low) % kModulus;
    return high << 32 | low;
}

bool has_right_sum(std::span<const std::byte> object) {
    return object.size() > kSum && object.size() % 4 == 0 && *ByteView(object).u64le(0) == sum_of(object);
}

std::optional<std::vector<std::byte>> Blocks::raw(std::uint64_t paddr) const {
    return bytes_at(*container_, place_of(paddr), size_);
}

std::optional<std::vector<std::byte>> Blocks::object(std::uint64_t paddr, std::uint32_t type) const {
    auto bytes = raw(paddr);
    if (!bytes) return std::nullopt;
    const auto header = *ByteView(*bytes).as<ObjPhys>(0);
    if ((header.o_type & OBJECT_TYPE_MASK) != type || !has_right_sum(*bytes)) return std::nullopt;
    return bytes;
}

std::optional<Node> Node::parse(std::vector<std::byte>&& bytes, std::uint64_t place, std::size_t key_size,
                                std::size_t value_size) {
    constexpr std::size_t kDataAt = sizeof(BtreeNodePhys);
    constexpr unsigned kMostLevels = 32;
    const ByteView view(bytes, place);
    const auto header = view.as<BtreeNodePhys>(0);
    if (!header || header->btn_level > kMostLevels) return std::nullopt;
    const bool is_root = (header->btn_flags & BTNODE_ROOT) != 0;
    const bool is_fixed = (header->btn_flags & BTNODE_FIXED_KV_SIZE) != 0;
    if (bytes.size() < kDataAt + sizeof(BtreeInfo)) return std::nullopt;
    const std::size_t end = bytes.size() - (is_root ? sizeof(BtreeInfo) : 0);  // values count from here back
    const std::size_t table = kDataAt + header->btn_table_space.off;
    const std::size_t keys = table + header->btn_table_space.len;
    const std::size_t entry_size = is_fixed ? sizeof(KvOff) : sizeof(KvLoc);
    if (keys > end || header->btn_nkeys > header->btn_table_space.len / entry_size) return std::nullopt;
    if (is_fixed && key_size == 0) return std::nullopt;
    Node node;
    node.entries_.reserve(header->btn_nkeys);
    for (std::size_t i = 0; i < header->btn_nkeys; ++i) {
        std::size_t key_at = 0, key_length = key_size, value_at = 0, value_length = value_size;
        if (is_fixed) {
            const auto entry = *view.as<KvOff>(table + i * sizeof(KvOff));
            key_at = entry.k;
            value_at = entry.v;
            if (header->btn_level > 0) value_length = sizeof(std::uint64_t);
        } else {
            const auto entry = *view.as<KvLoc>(table + i * sizeof(KvLoc));
            key_at = entry.k.off;
            key_length = entry.k.len;
            value_at = entry.v.off;
            value_length = entry.v.len;
        }
        constexpr std::size_t kNoValue = 0xFFFF;
        const bool has_value = value_at != kNoValue;
        if (!has_value) value_at = value_length = 0;
        if (!lies_within(keys + key_at, key_length, end) || value_at > end || value_length > value_at)
            return std::nullopt;
        node.entries_.push_back({static_cast<std::uint32_t>(keys + key_at), static_cast<std::uint32_t>(key_length),
                                 static_cast<std::uint32_t>(end - value_at), static_cast<std::uint32_t>(value_length)});
    }
    node.header_ = *header;
    node.bytes_ = std::move(bytes);
    node.place_ = place;
    node.area_at_ = keys;
    node.area_size_ = end - keys;
    return node;
}

// A list of them: each begins with where the next one is, and with its own length ("Nloc").
std::vector<Node::Tile> Node::given_back(const Nloc& list, bool from_end) const {
    constexpr std::size_t kEnd = 0xFFFF, kMost = 4096;
    std::vector<Tile> tiles;
    for (std::size_t off = list.off; off != kEnd && tiles.size() < kMost;) {
        if (off > area_size_) break;
        const std::size_t at = from_end ? area_size_ - off : off;
        const auto link = area().as<Nloc>(at);
        if (!link || link->len < sizeof(Nloc) || !lies_within(at, link->len, area_size_)) break;
        tiles.push_back({at, link->len, std::nullopt});
        off = link->off;
    }
    return tiles;
}

std::vector<Node::Tile> Node::key_tiles() const {
    auto tiles = given_back(header_.btn_key_free_list, false);
    for (std::size_t i = 0; i < entries_.size(); ++i)
        tiles.push_back({entries_[i].key - area_at_, entries_[i].key_size, i});
    std::sort(tiles.begin(), tiles.end(), [](const Tile& a, const Tile& b) { return a.at < b.at; });
    return tiles;
}

std::vector<Node::Tile> Node::value_tiles() const {
    auto tiles = given_back(header_.btn_val_free_list, true);
    for (std::size_t i = 0; i < entries_.size(); ++i)
        tiles.push_back({entries_[i].value - area_at_, entries_[i].value_size, i});
    std::sort(tiles.begin(), tiles.end(), [](const Tile& a, const Tile& b) { return a.at > b.at; });
    return tiles;
}

std::optional<std::uint64_t> Node::child(std::size_t index) const {
    const auto oid = value(index).u64le(0);
    return oid ? std::optional(*oid) : std::nullopt;
}

}  // namespace dredger::apfs

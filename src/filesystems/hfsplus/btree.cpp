#include "filesystems/hfsplus/btree.h"

#include <unordered_set>

#include "filesystems/tools/btree_cursor.h"
#include "volumes/trace.h"

namespace dredger::hfsplus {
namespace {

constexpr std::size_t kHeaderRecordAt = sizeof(NodeDescriptor);
constexpr std::uint8_t kHighest = 16;  // levels that any tree has

}  // namespace

std::optional<Node> Node::parse(std::vector<std::byte>&& bytes, std::uint64_t place) {
    const ByteView view(bytes, place);
    const auto descriptor = view.as<NodeDescriptor>(0);
    if (!descriptor || descriptor->reserved != 0 || descriptor->height > kHighest || descriptor->kind < kLeafNode ||
        descriptor->kind > kMapNode || (descriptor->kind == kLeafNode && descriptor->height != 1))
        return std::nullopt;
    const std::size_t table = (std::size_t{descriptor->numRecords} + 1) * sizeof(big_uint16_t);
    if (sizeof(NodeDescriptor) + table > bytes.size() || bytes.size() > 65'536) return std::nullopt;
    Node node;
    std::size_t before = 0;
    for (std::size_t i = 0; i <= descriptor->numRecords; ++i) {
        const std::uint16_t offset = view.as<big_uint16_t>(bytes.size() - (i + 1) * sizeof(big_uint16_t))->value();
        if (offset < sizeof(NodeDescriptor) || offset <= before || offset > bytes.size() - table) return std::nullopt;
        before = offset;
        node.offsets_.push_back(offset);
    }
    if (node.offsets_.front() != sizeof(NodeDescriptor)) return std::nullopt;
    node.descriptor_ = *descriptor;
    node.bytes_ = std::move(bytes);
    node.place_ = place;
    return node;
}

ByteView Node::part(std::size_t from, std::size_t to) const {
    return ByteView(std::span<const std::byte>(bytes_).subspan(from, to - from), place_ + from);
}

ByteView Node::record(std::size_t index) const { return part(offsets_[index], offsets_[index + 1]); }

ByteView Node::free_space() const {
    return part(offsets_.back(), bytes_.size() - offsets_.size() * sizeof(big_uint16_t));
}

ByteView Node::all_records() const {
    return part(sizeof(NodeDescriptor), bytes_.size() - offsets_.size() * sizeof(big_uint16_t));
}

std::optional<std::uint32_t> Node::child(std::size_t index) const {
    const ByteView view = record(index);
    const auto length = view.as<big_uint16_t>(0);
    if (!length) return std::nullopt;
    const auto number = view.as<big_uint32_t>(sizeof(big_uint16_t) + (std::size_t{*length} + 1) / 2 * 2);
    return number ? std::optional<std::uint32_t>(number->value()) : std::nullopt;
}

namespace {

// As much of the file as is stored, and lies on the volume: what its header claims beyond that are no nodes.
std::vector<Extent> there_of(const std::vector<Extent>& places, std::uint64_t volume_size) {
    std::vector<Extent> there;
    for (const Extent& place : places) {
        if (!place.is_stored() || !lies_within(place.offset, place.length, volume_size)) break;
        there.push_back(place);
    }
    return there;
}

}  // namespace

Btree::Btree(const MediumPtr& volume, const std::vector<Extent>& places)
    : file_(volume, there_of(places, volume->size())) {
    const auto start = bytes_at(file_, 0, kHeaderRecordAt + sizeof(HeaderRecord));
    if (!start || ByteView(*start).as<NodeDescriptor>(0)->kind != kHeaderNode) return;
    const auto header = *ByteView(*start).as<HeaderRecord>(kHeaderRecordAt);
    const std::uint32_t size = header.nodeSize;
    if (size < 512 || size > 32'768 || (size & (size - 1)) != 0) return;
    node_size_ = size;
    nodes_ = file_.size() / size;
    root_ = header.rootNode;
    if (auto node = read(0)) read_map(std::move(*node));
}

// The header node's third record, and the only one of each map node that follows.
void Btree::read_map(Node node) {
    std::unordered_set<std::uint32_t> seen;
    for (std::size_t record = 2; record < node.count(); record = 0) {
        const ByteView bits = node.record(record);
        map_.insert(map_.end(), bits.bytes().begin(), bits.bytes().end());
        const std::uint32_t next = node.descriptor().fLink;
        if (next == 0 || !seen.insert(next).second) break;
        auto more = read(next);
        if (!more || more->descriptor().kind != kMapNode) break;
        node = std::move(*more);
    }
}

std::optional<Node> Btree::read(std::uint64_t number) const {
    if (number >= nodes_) return std::nullopt;
    auto bytes = bytes_at(file_, number * node_size_, node_size_);
    const auto places = file_.places_of(number * node_size_, node_size_);
    if (!bytes || places.empty() || !places.front().is_stored()) return std::nullopt;
    return Node::parse(std::move(*bytes), places.front().offset);
}

bool Btree::is_used(std::uint64_t number) const {
    const auto byte = static_cast<std::size_t>(number / 8);
    return byte >= map_.size() || (std::to_integer<unsigned>(map_[byte]) >> (7 - number % 8) & 1U) != 0;
}

namespace {

// As a cursor walks it, in the order in which the nodes stand: nothing is looked up by its key.
struct Tree {
    using Key = std::uint32_t;
    using Address = std::uint32_t;
    using Node = std::pair<std::uint32_t, hfsplus::Node>;

    const Btree& btree;

    std::optional<Node> read(Address number, int level) const {
        auto node = number != 0 ? btree.read(number) : std::nullopt;
        if (!node || node->descriptor().kind > kIndexNode || node->descriptor().height == 0) return std::nullopt;
        if (level >= 0 && node->descriptor().height != level + 1) return std::nullopt;
        if ((node->descriptor().kind == kLeafNode) != (node->descriptor().height == 1)) return std::nullopt;
        return Node{number, std::move(*node)};
    }
    int level(const Node& node) const { return node.second.descriptor().height - 1; }
    std::size_t count(const Node& node) const { return node.second.count(); }
    Key key(const Node&, std::size_t) const { return 0; }
    std::optional<Address> child(const Node& node, std::size_t index) const { return node.second.child(index); }
};

}  // namespace

bool Btree::each_leaf(const std::function<bool(const Node&, std::uint64_t)>& visit) const {
    if (root_ == 0) return true;
    const Tree tree{*this};
    BtreeCursor cursor(tree);
    std::unordered_set<std::uint64_t> seen;
    for (bool more = cursor.first(root_); more; more = cursor.next_leaf()) {
        seen.insert(cursor.leaf().first);
        if (!visit(cursor.leaf().second, cursor.leaf().first)) return true;
    }
    if (cursor.is_whole()) return true;
    for (std::uint64_t number = 1; number < nodes_; ++number) {
        if (!is_used(number) || seen.contains(number)) continue;
        const auto node = read(number);
        if (node && node->descriptor().kind == kLeafNode && node->count() > 0 && !visit(*node, number)) return false;
    }
    return false;
}

}  // namespace dredger::hfsplus

#include "filesystems/btrfs/volume.h"

#include <algorithm>
#include <bit>

#include "base/crc32c.h"
#include "base/text.h"
#include "filesystems/tools/btree_cursor.h"
#include "volumes/trace.h"

namespace dredger::btrfs {
namespace {

constexpr int kMaxLevels = 8;
constexpr std::size_t kMaxChunks = 1 << 20;

bool has_right_sum(std::span<const std::byte> bytes) {
    constexpr std::size_t kSum = 32;
    const auto stored = ByteView(bytes).u32le(0);
    return stored && crc32c(bytes.subspan(kSum)) == *stored;
}

}  // namespace

std::optional<Geometry> parse_superblock(ByteView bytes) {
    const auto sb = bytes.as<SuperBlock>(0);
    if (!sb || bytes.size() < kSuperBlockSize || !bytes.has(offsetof(SuperBlock, magic), "_BHRfS_M"))
        return std::nullopt;
    Geometry g;
    std::copy(std::begin(sb->fsid), std::end(sb->fsid), g.fsid.begin());
    g.generation = sb->generation;
    g.root = sb->root;
    g.chunk_root = sb->chunk_root;
    g.total_bytes = sb->total_bytes;
    g.devices = sb->num_devices;
    g.devid = sb->devid;
    g.sector_size = sb->sectorsize;
    g.node_size = sb->nodesize;
    g.has_crc = sb->csum_type == 0;
    if (!std::has_single_bit(g.sector_size) || g.sector_size < 512 || g.sector_size > 65'536 ||
        !std::has_single_bit(g.node_size) || g.node_size < g.sector_size || g.node_size > 65'536 || g.total_bytes == 0)
        return std::nullopt;
    const std::string label(sb->label, sizeof sb->label);
    g.label = printable(label.substr(0, label.find('\0')));
    const std::size_t end = kSystemChunks + std::min<std::size_t>(sb->sys_chunk_array_size, kMaxSystemChunks);
    for (std::size_t at = kSystemChunks; at + sizeof(DiskKey) + sizeof(Chunk) <= end;) {
        const auto key = bytes.as<DiskKey>(at);
        const auto chunk = bytes.as<Chunk>(at + sizeof(DiskKey));
        if (!key || !chunk || key->type != CHUNK_ITEM) break;
        const std::size_t size = sizeof(Chunk) + chunk->num_stripes * sizeof(Stripe);
        const auto data = bytes.slice(at + sizeof(DiskKey), size);
        if (!data) break;
        g.system_chunks.emplace_back(key->key(), std::vector(data->bytes().begin(), data->bytes().end()));
        at += sizeof(DiskKey) + size;
    }
    for (std::size_t i = 0; i < kBackupRootCount; ++i)
        if (const auto backup = bytes.as<BackupRoot>(kBackupRoots + i * kBackupRootSize)) g.backups.push_back(*backup);
    std::stable_sort(g.backups.begin(), g.backups.end(), [](const BackupRoot& a, const BackupRoot& b) {
        return a.tree_root_gen.value() > b.tree_root_gen.value();
    });
    return g;
}

bool ChunkMap::add(const Key& key, ByteView bytes, std::uint64_t devid, std::uint64_t volume_size) {
    const auto chunk = bytes.as<Chunk>(0);
    if (!chunk || chunks_.size() >= kMaxChunks || chunk->length == 0 || !checked_add(key.offset, chunk->length))
        return false;
    const bool is_striped = (chunk->type & (BLOCK_GROUP_RAID0 | BLOCK_GROUP_RAID10 | BLOCK_GROUP_RAID56)) != 0;
    if (is_striped && chunk->num_stripes > 1) return false;
    ChunkPlace place{key.offset, chunk->length, chunk->type, {}};
    for (std::size_t i = 0; i < chunk->num_stripes; ++i) {
        const auto stripe = bytes.as<Stripe>(sizeof(Chunk) + i * sizeof(Stripe));
        if (!stripe || stripe->devid != devid || stripe->offset >= volume_size) continue;
        if (checked_add(stripe->offset, chunk->length)) place.copies.push_back(stripe->offset);
    }
    if (place.copies.empty()) return false;
    const auto at = std::lower_bound(chunks_.begin(), chunks_.end(), place.logical,
                                     [](const ChunkPlace& c, std::uint64_t logical) { return c.logical < logical; });
    const bool overlaps = (at != chunks_.end() && at->logical < place.logical + place.length) ||
                          (at != chunks_.begin() && std::prev(at)->logical + std::prev(at)->length > place.logical);
    if (!overlaps) chunks_.insert(at, std::move(place));
    return true;
}

const ChunkPlace* ChunkMap::chunk_of(std::uint64_t logical) const {
    auto chunk = std::upper_bound(chunks_.begin(), chunks_.end(), logical,
                                  [](std::uint64_t at, const ChunkPlace& c) { return at < c.logical; });
    if (chunk == chunks_.begin()) return nullptr;
    --chunk;
    return logical - chunk->logical < chunk->length ? &*chunk : nullptr;
}

std::size_t ChunkMap::copies_of(std::uint64_t logical) const {
    const ChunkPlace* chunk = chunk_of(logical);
    return chunk == nullptr ? 0 : chunk->copies.size();
}

std::vector<Extent> ChunkMap::places_of(std::uint64_t logical, std::uint64_t length, std::size_t copy) const {
    std::vector<Extent> places;
    while (length > 0) {
        const ChunkPlace* chunk = chunk_of(logical);
        if (chunk == nullptr) {
            places.push_back(Extent::unknown(length));
            break;
        }
        const std::uint64_t within = logical - chunk->logical;
        const std::uint64_t part = std::min(length, chunk->length - within);
        places.push_back({chunk->copies[std::min(copy, chunk->copies.size() - 1)] + within, part});
        logical += part;
        length -= part;
    }
    return places;
}

std::size_t Node::count() const {
    const std::size_t most =
        (bytes_.size() - sizeof(Header)) / (header_.level == 0 ? sizeof(Item) : sizeof(KeyPointer));
    return std::min<std::size_t>(header_.nritems, most);
}

std::optional<Node::Entry> Node::item(std::size_t index) const {
    const ByteView view(bytes_, place_);
    const auto item = view.as<Item>(sizeof(Header) + index * sizeof(Item));
    if (!item) return std::nullopt;
    const auto data = view.slice(sizeof(Header) + std::size_t{item->offset}, item->size);
    if (!data) return std::nullopt;
    return Entry{item->key.key(), *data};
}

Key Node::key(std::size_t index) const {
    const std::size_t step = header_.level == 0 ? sizeof(Item) : sizeof(KeyPointer);
    const auto key = ByteView(bytes_).as<DiskKey>(sizeof(Header) + index * step);
    return key ? key->key() : Key{};
}

std::optional<KeyPointer> Node::pointer(std::size_t index) const {
    const auto pointer = ByteView(bytes_).as<KeyPointer>(sizeof(Header) + index * sizeof(KeyPointer));
    return pointer ? std::optional(*pointer) : std::nullopt;
}

bool Nodes::read_chunks(std::vector<std::string>& warnings) {
    unsigned elsewhere = 0;
    for (const auto& [key, chunk] : geometry_.system_chunks)
        elsewhere += chunks_.add(key, ByteView(chunk), geometry_.devid, volume_->size()) ? 0 : 1;
    bool whole = false;
    std::vector<std::uint64_t> roots = {geometry_.chunk_root};
    for (const BackupRoot& backup : geometry_.backups) roots.push_back(backup.chunk_root);
    for (const std::uint64_t root : roots) {
        std::vector<std::pair<Key, std::vector<std::byte>>> found;
        whole = walk(root, [&](const Node::Entry& entry, const Header&) {
            if (entry.key.type == CHUNK_ITEM)
                found.emplace_back(entry.key, std::vector(entry.data.bytes().begin(), entry.data.bytes().end()));
            return found.size() < kMaxChunks;
        });
        for (const auto& [key, chunk] : found)
            elsewhere += chunks_.add(key, ByteView(chunk), geometry_.devid, volume_->size()) ? 0 : 1;
        if (whole) break;
    }
    if (!whole) warnings.emplace_back("the map of its chunks is damaged: what lies in the lost ones is missing");
    if (elsewhere > 0)
        warnings.emplace_back(
            geometry_.devices > 1
                ? "it is spread over several devices: what lies on the others, or striped over them, is missing"
                : "parts of the map of its chunks make no sense: what lies there is missing");
    return whole;
}

std::optional<Node> Nodes::parse(std::vector<std::byte>&& bytes, std::uint64_t logical, std::uint64_t place) const {
    const auto header = ByteView(bytes).as<Header>(0);
    if (!header || header->bytenr != logical || header->level >= kMaxLevels ||
        !std::equal(geometry_.fsid.begin(), geometry_.fsid.end(), header->fsid))
        return std::nullopt;
    if (geometry_.has_crc && !has_right_sum(bytes)) return std::nullopt;
    return Node(*header, std::move(bytes), place);
}

std::optional<Node> Nodes::read(std::uint64_t logical) const {
    const std::size_t copies = chunks_.copies_of(logical);
    for (std::size_t copy = 0; copy < copies; ++copy) {
        const auto places = chunks_.places_of(logical, geometry_.node_size, copy);
        if (places.size() != 1 || !places.front().is_stored()) continue;
        auto bytes = bytes_at(*volume_, places.front().offset, geometry_.node_size);
        if (!bytes) continue;
        if (auto node = parse(std::move(*bytes), logical, places.front().offset)) return node;
    }
    return std::nullopt;
}

namespace {

// Trees as a cursor walks them: a node's level is one less than that of the one above it.
struct Tree {
    using Key = btrfs::Key;
    using Address = std::uint64_t;  // logical
    using Node = btrfs::Node;

    const Nodes& nodes;
    const Nodes::Enter& enter;

    bool is_passed_over(Address logical) const { return enter && !enter(logical); }
    std::optional<Node> read(Address logical, int level) const {
        auto node = nodes.read(logical);
        return node && (level < 0 || node->header().level == level) ? std::move(node) : std::nullopt;
    }
    int level(const Node& node) const { return node.header().level; }
    std::size_t count(const Node& node) const { return node.count(); }
    Key key(const Node& node, std::size_t index) const { return node.key(index); }
    std::optional<Address> child(const Node& node, std::size_t index) const {
        const auto pointer = node.pointer(index);
        return pointer ? std::optional<Address>(pointer->blockptr) : std::nullopt;
    }
};

}  // namespace

bool Nodes::walk(std::uint64_t root, const Visit& visit, const Enter& enter) const {
    return walk_tree(root, nullptr, visit, enter);
}

bool Nodes::walk_from(std::uint64_t root, const Key& from, const Visit& visit) const {
    return walk_tree(root, &from, visit, {});
}

bool Nodes::walk_tree(std::uint64_t root, const Key* from, const Visit& visit, const Enter& enter) const {
    const Tree tree{*this, enter};
    BtreeCursor cursor(tree);
    bool whole = true;
    if (tree.is_passed_over(root)) return true;
    for (bool more = from != nullptr ? cursor.lower_bound(root, *from) : cursor.first(root); more;
         more = cursor.next()) {
        const auto entry = cursor.leaf().item(cursor.index());
        whole = whole && entry;
        if (entry && !visit(*entry, cursor.leaf().header())) break;
    }
    return whole && cursor.is_whole();
}

}  // namespace dredger::btrfs

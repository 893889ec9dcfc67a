#include "filesystems/btrfs/btrfs.h"

#include <fmt/format.h>

#include "base/text.h"
#include "filesystems/btrfs/walk.h"

namespace dredger::btrfs {
namespace {

constexpr std::uint64_t kReserved = 1 << 20;  // bytes at the start that no chunk takes

// The newest of the mirrors.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    std::optional<Geometry> best;
    bool first_is_there = false;
    for (const std::uint64_t place : kMirrors) {
        const auto bytes = bytes_at(volume, place, kSuperBlockSize);
        auto geometry = bytes && ByteView(*bytes).u64le(offsetof(SuperBlock, bytenr)) == place
                            ? parse_superblock(ByteView(*bytes, place))
                            : std::nullopt;
        if (!geometry) continue;
        first_is_there = first_is_there || place == kMirrors[0];
        if (!best || geometry->generation > best->generation) best = std::move(geometry);
    }
    facts.is_mountable = first_is_there;
    if (best && !first_is_there) facts.warnings.emplace_back("the superblock is damaged; a mirror of it is used");
    return best;
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    return std::make_unique<Btrfs>(std::move(volume), std::move(*geometry), std::move(facts));
}

Btrfs::Btrfs(MediumPtr volume, Geometry geometry, VolumeFacts facts)
    : geometry_(std::move(geometry)), nodes_(std::move(volume), geometry_) {
    facts_ = std::move(facts);
    nodes_.read_chunks(facts_.warnings);
    read_space();
    facts_.filesystem = "Btrfs";
    facts_.label = geometry_.label;
    facts_.serial = uuid_text(geometry_.fsid);
    facts_.cluster_size = geometry_.sector_size;
    facts_.size = geometry_.devices > 1 ? nodes_.volume()->size() : geometry_.total_bytes;
    facts_.used = space_.taken_bytes();
    if (facts_.size > nodes_.volume()->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              facts_.size, nodes_.volume()->size()));
}

// What the extent tree says is taken; all that lies in no chunk is free.
void Btrfs::read_space() {
    const std::uint64_t sector = geometry_.sector_size;
    space_ = SpaceMap(0, sector, nodes_.volume()->size() / sector);
    space_.take_run(0, kReserved / sector);
    for (const std::uint64_t mirror : kMirrors) space_.take_run(mirror / sector, kSuperBlockSize / sector);
    std::uint64_t tree = 0;
    nodes_.walk(geometry_.root, [&](const Node::Entry& entry, const Header&) {
        const auto item = entry.data.as<RootItem>(0);
        if (entry.key.objectid == EXTENT_TREE && entry.key.type == ROOT_ITEM && item) tree = item->bytenr;
        return entry.key.objectid <= EXTENT_TREE;
    });
    const bool whole = nodes_.walk(tree, [&](const Node::Entry& entry, const Header&) {
        const Key& key = entry.key;
        if (key.type != EXTENT_ITEM && key.type != METADATA_ITEM) return true;
        const std::uint64_t length = key.type == METADATA_ITEM ? geometry_.node_size : key.offset;
        const std::size_t copies = nodes_.chunks().copies_of(key.objectid);
        for (std::size_t copy = 0; copy < copies; ++copy)
            for (const Extent& place : nodes_.chunks().places_of(key.objectid, length, copy))
                if (place.is_stored()) space_.take_run(place.offset / sector, divide_up(place.length, sector));
        return true;
    });
    if (!whole)
        facts_.warnings.emplace_back(
            "the map of used space is damaged: what is overwritten is told by the files' records alone");
}

std::vector<FileRoot> Btrfs::roots() const {
    const Subvolumes found = read_subvolumes(nodes_);
    std::vector<FileRoot> roots;
    for (const std::uint64_t id : found.in_order()) {
        const Subvolume& subvolume = found.by_id.at(id);
        const bool is_frozen = subvolume.is_frozen();
        roots.push_back({id, subvolume.name, is_frozen, is_frozen ? subvolume.generation : 0, subvolume.made});
    }
    return roots;
}

Result<void> Btrfs::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    BtrfsWalk(nodes_, options, sink, warnings).run();
    return {};
}

}  // namespace dredger::btrfs

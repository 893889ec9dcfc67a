#include "filesystems/apfs/volumes.h"

#include <algorithm>
#include <fmt/format.h>
#include <unordered_set>

#include "base/text.h"

namespace dredger::apfs {
namespace {

std::vector<Snapshot> snapshots_of(const Blocks& blocks, const ApfsSuperblock& super) {
    std::vector<Snapshot> snapshots;
    if (super.apfs_num_snapshots == 0) return snapshots;
    // Its nodes are physical objects, few enough to go through level by level.
    constexpr std::size_t kMostNodes = 4096;
    std::vector<std::uint64_t> nodes = {super.apfs_snap_meta_tree_oid};
    std::unordered_set<std::uint64_t> seen;
    for (std::size_t n = 0; n < nodes.size() && n < kMostNodes; ++n) {
        if (!seen.insert(nodes[n]).second) continue;
        auto bytes = blocks.object(nodes[n], n == 0 ? OBJECT_TYPE_BTREE : OBJECT_TYPE_BTREE_NODE);
        const auto node = bytes ? Node::parse(std::move(*bytes), blocks.place_of(nodes[n])) : std::nullopt;
        if (!node) continue;
        for (std::size_t i = 0; i < node->count(); ++i) {
            if (!node->is_leaf()) {
                if (const auto child = node->child(i)) nodes.push_back(*child);
                continue;
            }
            const auto key = parse_fs_key(node->key(i));
            const auto value = node->value(i).as<JSnapMetadataVal>(0);
            if (!key || key->type != APFS_TYPE_SNAP_METADATA || !value) continue;
            const auto name = node->value(i).slice(sizeof(JSnapMetadataVal), value->name_len);
            if (!name) continue;
            const std::string text(reinterpret_cast<const char*>(name->bytes().data()), name->size());
            constexpr std::int64_t kSecond = 1'000'000'000;
            snapshots.push_back({key->oid, printable(text.substr(0, text.find('\0'))),
                                 FileTime{static_cast<std::int64_t>(value->create_time.value()) / kSecond},
                                 value->sblock_oid});
        }
    }
    std::sort(snapshots.begin(), snapshots.end(), [](const Snapshot& a, const Snapshot& b) { return a.xid > b.xid; });
    return snapshots;
}

// A system's volume and that of its data are one tree to their user.
std::string folder_of(const VolumeState& volume, const std::vector<VolumeState>& all) {
    if (all.size() <= 1) return {};
    if (volume.super.apfs_role == APFS_VOL_ROLE_DATA)
        for (const VolumeState& other : all)
            if (other.super.apfs_role == APFS_VOL_ROLE_SYSTEM) return other.name;
    return volume.name.empty() ? fmt::format("(volume {})", volume.oid()) : volume.name;
}

}  // namespace

std::vector<VolumeAtHand> volumes_at_hand(const Container& container) {
    std::vector<VolumeAtHand> volumes;
    const auto states = container.volumes_of(container.super());
    for (const VolumeState& state : states) {
        VolumeAtHand volume;
        volume.state = state;
        volume.folder = folder_of(state, states);
        if (!state.is_encrypted()) {
            volume.whole = volume.map.read(container.blocks(), state.super.apfs_omap_oid);
            volume.snapshots = snapshots_of(container.blocks(), state.super);
        }
        volumes.push_back(std::move(volume));
    }
    return volumes;
}

}  // namespace dredger::apfs

#include "filesystems/apfs/container.h"

#include <algorithm>

#include "base/text.h"
#include "volumes/trace.h"

namespace dredger::apfs {
namespace {

constexpr std::uint32_t kMostCheckpointBlocks = 65'536;
constexpr std::size_t kMostFreed = 4'000'000;
constexpr unsigned kMostLevels = 16;

bool is_power_of_two(std::uint64_t n) { return n != 0 && (n & (n - 1)) == 0; }

// The one at the start, or else that of a checkpoint, whose ring lies not far behind it.
std::optional<NxSuperblock> first_superblock(const Medium& container, std::vector<std::string>& warnings) {
    constexpr std::uint64_t kSmallestBlock = 4096, kNear = 64;  // bytes; blocks
    for (std::uint64_t i = 0; i < kNear; ++i) {
        const auto bytes = bytes_at(container, i * kSmallestBlock, kSmallestBlock);
        const auto super = bytes ? parse_superblock(ByteView(*bytes)) : std::nullopt;
        if (!super) continue;
        if (i == 0) return super;
        if (super->nx_xp_desc_base > i || !has_right_sum(*bytes)) continue;
        warnings.emplace_back("the superblock at its start is damaged; that of a checkpoint is used");
        return super;
    }
    return std::nullopt;
}

}  // namespace

std::optional<NxSuperblock> parse_superblock(ByteView view) {
    const auto super = view.as<NxSuperblock>(0);
    if (!super || !view.has(offsetof(NxSuperblock, nx_magic), "NXSB")) return std::nullopt;
    if (!is_power_of_two(super->nx_block_size) || super->nx_block_size < 4096 || super->nx_block_size > 65'536)
        return std::nullopt;
    const auto length = checked_mul(super->nx_block_count, super->nx_block_size);
    if (!length || *length == 0 || super->nx_xp_desc_base >= super->nx_block_count) return std::nullopt;
    return *super;
}

std::optional<Container> Container::open(const MediumPtr& container, std::vector<std::string>& warnings) {
    const auto first = first_superblock(*container, warnings);
    if (!first) return std::nullopt;
    Blocks blocks(container, first->nx_block_size);
    std::vector<NxSuperblock> checkpoints;
    const std::uint32_t count = first->nx_xp_desc_blocks & ~kNotContiguous;
    for (std::uint32_t i = 0; i < std::min(count, kMostCheckpointBlocks); ++i) {
        const auto paddr = checked_add(first->nx_xp_desc_base, i);
        const auto bytes = paddr ? blocks.object(*paddr, OBJECT_TYPE_NX_SUPERBLOCK) : std::nullopt;
        const auto super = bytes ? parse_superblock(ByteView(*bytes)) : std::nullopt;
        if (super && super->nx_block_size == first->nx_block_size) checkpoints.push_back(*super);
    }
    std::stable_sort(checkpoints.begin(), checkpoints.end(), [](const NxSuperblock& a, const NxSuperblock& b) {
        return a.nx_o.o_xid.value() > b.nx_o.o_xid.value();
    });
    if (checkpoints.empty()) {
        // The block at the start is a copy, written when the container was last mounted.
        checkpoints.push_back(*first);
        warnings.emplace_back("its checkpoints are damaged; the superblock at its start is used, which may be older");
    }
    Container opened(std::move(blocks), std::move(checkpoints));
    constexpr std::size_t kMostTried = 64;
    const auto tried_until =
        opened.checkpoints_.begin() + static_cast<std::ptrdiff_t>(std::min(kMostTried, opened.checkpoints_.size()));
    const auto usable = std::find_if(opened.checkpoints_.begin(), tried_until,
                                     [&](const NxSuperblock& super) { return !opened.volumes_of(super).empty(); });
    if (usable != opened.checkpoints_.begin() && usable != tried_until) {
        warnings.emplace_back("the newest checkpoint is damaged; an older one is used: the last changes are missing");
        opened.checkpoints_.erase(opened.checkpoints_.begin(), usable);
    }
    return opened;
}

std::vector<VolumeState> Container::volumes_of(const NxSuperblock& checkpoint) const {
    std::vector<VolumeState> volumes;
    ObjectMap map;
    map.read(blocks_, checkpoint.nx_omap_oid);
    for (const auto& oid : checkpoint.nx_fs_oid) {
        const auto place = oid != 0 ? map.find(oid, checkpoint.nx_o.o_xid) : std::nullopt;
        const auto bytes = place ? blocks_.object(place->paddr, OBJECT_TYPE_FS) : std::nullopt;
        const auto super = bytes ? ByteView(*bytes).as<ApfsSuperblock>(0) : fail(ErrorKind::not_understood, "");
        if (!super || !ByteView(*bytes).has(offsetof(ApfsSuperblock, apfs_magic), "APSB")) continue;
        const std::string_view name(super->apfs_volname, sizeof(super->apfs_volname));
        volumes.push_back({*super, printable(name.substr(0, name.find('\0')))});
    }
    return volumes;
}

// What the checkpoint keeps of objects that live in memory: their numbers, and the blocks that they were written to.
std::map<std::uint64_t, std::uint64_t> Container::ephemeral_objects() const {
    std::map<std::uint64_t, std::uint64_t> objects;
    const std::uint32_t ring = super().nx_xp_desc_blocks & ~kNotContiguous;
    if (ring == 0) return objects;
    for (std::uint32_t i = 0; i < std::min(super().nx_xp_desc_len.value(), ring); ++i) {
        const std::uint64_t paddr = super().nx_xp_desc_base + (super().nx_xp_desc_index + std::uint64_t{i}) % ring;
        const auto bytes = blocks_.object(paddr, OBJECT_TYPE_CHECKPOINT_MAP);
        if (!bytes) continue;
        const ByteView view(*bytes);
        const std::uint32_t count = view.as<CheckpointMapPhys>(0)->cpm_count;
        for (std::size_t n = 0; n < count; ++n) {
            const auto mapping = view.as<CheckpointMapping>(sizeof(CheckpointMapPhys) + n * sizeof(CheckpointMapping));
            if (!mapping) break;
            objects[mapping->cpm_oid] = mapping->cpm_paddr;
        }
    }
    return objects;
}

void Container::read_free_queue(std::uint64_t paddr, const std::map<std::uint64_t, std::uint64_t>& objects,
                                unsigned level, std::set<std::uint64_t>& seen, std::vector<Extent>& freed) const {
    auto bytes = blocks_.object(paddr, level == kMostLevels ? OBJECT_TYPE_BTREE : OBJECT_TYPE_BTREE_NODE);
    const auto node = bytes ? Node::parse(std::move(*bytes), blocks_.place_of(paddr), sizeof(SpacemanFreeQueueKey),
                                          sizeof(std::uint64_t))
                            : std::nullopt;
    if (!node || node->header().btn_level >= level || !seen.insert(paddr).second) return;
    for (std::size_t i = 0; i < node->count() && freed.size() < kMostFreed; ++i) {
        if (node->is_leaf()) {
            const auto key = node->key(i).as<SpacemanFreeQueueKey>(0);
            if (!key) continue;
            const std::uint64_t count = node->value(i).u64le(0).value_or(1);
            if (lies_within(key->sfqk_paddr, count, super().nx_block_count)) freed.push_back({key->sfqk_paddr, count});
        } else if (const auto child = node->child(i); child && objects.contains(*child)) {
            read_free_queue(objects.at(*child), objects, node->header().btn_level, seen, freed);
        }
    }
}

// In blocks.
std::vector<Extent> Container::freed_blocks(const SpacemanPhys& spaceman,
                                            const std::map<std::uint64_t, std::uint64_t>& objects) const {
    std::vector<Extent> freed;
    std::set<std::uint64_t> seen;  // blocks of its trees
    for (const SpacemanFreeQueue& queue : spaceman.sm_fq)
        if (const auto tree = objects.find(queue.sfq_tree_oid); queue.sfq_tree_oid != 0 && tree != objects.end())
            read_free_queue(tree->second, objects, kMostLevels, seen, freed);
    return freed;
}

bool Container::read_space(SpaceMap& space) const {
    const std::uint64_t there = std::min(super().nx_block_count.value(), blocks_.container()->size() / blocks_.size());
    space = SpaceMap(0, blocks_.size(), there);
    const auto objects = ephemeral_objects();
    const auto at = objects.find(super().nx_spaceman_oid);
    const auto bytes = at != objects.end() ? blocks_.object(at->second, OBJECT_TYPE_SPACEMAN) : std::nullopt;
    if (!bytes) return false;
    const ByteView view(*bytes);
    const auto spaceman = *view.as<SpacemanPhys>(0);
    const SpacemanDevice& device = spaceman.sm_dev[0];
    bool whole = true;
    // The addresses of the blocks that tell of chunks, or of blocks of these addresses.
    std::vector<std::uint64_t> addresses;
    const auto take_addresses = [&](ByteView list, std::size_t from, std::uint32_t count) {
        for (std::size_t i = 0; i < count; ++i) {
            const auto address = list.u64le(from + i * sizeof(std::uint64_t));
            if (!address) return void(whole = false);
            addresses.push_back(*address);
        }
    };
    if (device.sm_cab_count == 0) {
        take_addresses(view, device.sm_addr_offset, device.sm_cib_count);
    } else {
        for (std::size_t i = 0; i < device.sm_cab_count; ++i) {
            const auto address = view.u64le(device.sm_addr_offset + i * sizeof(std::uint64_t));
            if (!address) return false;
            const auto block = blocks_.object(*address, OBJECT_TYPE_SPACEMAN_CAB);
            if (!block) whole = false;
            if (block)
                take_addresses(ByteView(*block), sizeof(SpacemanBlockHead),
                               ByteView(*block).as<SpacemanBlockHead>(0)->count);
        }
    }
    std::vector<Extent> freed = freed_blocks(spaceman, objects);
    std::sort(freed.begin(), freed.end(), [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
    for (const std::uint64_t address : addresses) {
        const auto block = blocks_.object(address, OBJECT_TYPE_SPACEMAN_CIB);
        if (!block) {
            whole = false;
            continue;
        }
        const std::uint32_t count = ByteView(*block).as<SpacemanBlockHead>(0)->count;
        for (std::size_t i = 0; i < count; ++i) {
            const auto chunk = ByteView(*block).as<ChunkInfo>(sizeof(SpacemanBlockHead) + i * sizeof(ChunkInfo));
            if (!chunk) break;
            if (chunk->ci_bitmap_addr == 0 || chunk->ci_addr >= there) continue;
            auto bits = blocks_.raw(chunk->ci_bitmap_addr);
            if (!bits) {
                whole = false;
                continue;
            }
            const std::uint64_t first = chunk->ci_addr;
            const std::uint64_t units = std::min<std::uint64_t>(chunk->ci_block_count, bits->size() * 8);
            bits->resize(static_cast<std::size_t>(divide_up(units, 8)));
            for (auto run = std::partition_point(freed.begin(), freed.end(),
                                                 [&](const Extent& f) { return f.end() <= first; });
                 run != freed.end() && run->offset < first + units; ++run)
                for (std::uint64_t n = std::max(run->offset, first); n < std::min(run->end(), first + units); ++n)
                    (*bits)[static_cast<std::size_t>((n - first) / 8)] &=
                        ~static_cast<std::byte>(1U << ((n - first) % 8));
            space.take_bits(first, *bits);
        }
    }
    return whole;
}

}  // namespace dredger::apfs

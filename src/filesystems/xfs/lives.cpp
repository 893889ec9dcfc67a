#include "filesystems/xfs/lives.h"

#include "volumes/trace.h"

namespace dredger::xfs {
namespace {

constexpr std::size_t kMaxLives = 2'000'000;
constexpr std::size_t kMaxSightings = 4'000'000;
constexpr std::uint64_t kMaxLooked = 1 << 18;  // places in free space
// A directory's blocks are looked for near inodes: so far, in blocks, behind them in their group, and so many in all.
constexpr std::uint64_t kNearInodes = 4096, kMaxBlocks = 1 << 17;

// A root as it is kept in memory, as an inode has it.
std::vector<std::byte> root_for_inode(const std::vector<std::byte>& root, const Geometry& geometry) {
    const std::size_t header = geometry.has_checksums ? 72 : 24;
    const ByteView view(root);
    const auto head = view.as<BtreeBlock>(0);
    if (!head || root.size() <= header) return {};
    const std::size_t most = (root.size() - header) / 16, count = head->bb_numrecs;
    if (count > most) return {};
    std::vector<std::byte> short_root(4 + count * 16);
    std::copy_n(root.begin() + 4, 4, short_root.begin());
    const auto at = [&](std::size_t offset) { return root.begin() + static_cast<std::ptrdiff_t>(offset); };
    std::copy_n(at(header), count * 8, short_root.begin() + 4);
    std::copy_n(at(header + most * 8), count * 8, short_root.begin() + 4 + static_cast<std::ptrdiff_t>(count * 8));
    return short_root;
}

bool is_blank(const std::vector<std::byte>& bytes) {
    return ByteView(bytes).is_uniform() && (bytes.empty() || bytes[0] == std::byte{0});
}

}  // namespace

bool Lives::read(const std::function<bool(const char*, std::uint64_t, std::uint64_t)>& go_on) {
    go_on_ = go_on;
    log_ = read_log(*volume_, geometry_, *this);
    const auto& chunks = groups_.chunks();
    for (std::size_t i = 0; i < chunks.size() && !stopped_; ++i) {
        if (i % 256 == 0 && go_on_) stopped_ = !go_on_("reading inodes", i, chunks.size());
        read_chunk(chunks[i]);
    }
    if (!stopped_) look_at_free_chunks();
    if (!stopped_) look_at_free_blocks();
    return !stopped_;
}

bool Lives::reached(std::uint64_t done, std::uint64_t total) {
    if (go_on_) stopped_ = !go_on_("reading the log", done, total);
    return !stopped_;
}

Life* Lives::life_of(std::uint64_t number, std::uint32_t generation) {
    const auto place = lives_.find(number);
    if (place != lives_.end())
        for (Life& life : place->second)
            if (life.inode.generation == generation) return &life;
    if (count_ >= kMaxLives) return nullptr;
    ++count_;
    Life& life = lives_[number].emplace_back();
    life.inode.number = number;
    life.inode.generation = generation;
    return &life;
}

void Lives::take(LoggedInode&& logged) {
    Inode& seen = logged.inode;
    if (seen.is_free() || !seen.stores_content()) return;
    Life* life = life_of(seen.number, seen.generation);
    if (life == nullptr) return;
    // The last name is taken from it before its content is.
    if (seen.links == 0 && !life->deleted) life->deleted = seen.changed;
    const bool is_emptied = seen.links == 0 && seen.size == 0 && life->core_is_known;
    const bool is_later = logged.sequence >= life->sequence;
    if (logged.has_fork && !seen.is_folder() && logged.inode.fork.size() >= 16 &&
        (is_later || life->inode.fork.empty())) {
        const bool tells = logged.fork_is_root || seen.format == ForkFormat::local || seen.extents > 0;
        if (tells && seen.links > 0) {
            life->inode.fork = logged.fork_is_root ? root_for_inode(seen.fork, geometry_) : std::move(seen.fork);
            life->inode.format = seen.format;
            life->inode.extents = seen.extents;
        }
    } else if (logged.has_fork && seen.is_folder()) {
        if (seen.format == ForkFormat::local) {
            const Directory directory = read_short_directory(ByteView(seen.fork), seen.fork.size(), geometry_);
            for (const DirectoryEntry& entry : directory.entries)
                if (sightings_.size() < kMaxSightings) sightings_.push_back({seen.number, entry, logged.sequence});
        } else if (is_later && (logged.fork_is_root || seen.extents > 0)) {
            life->inode.fork = logged.fork_is_root ? root_for_inode(seen.fork, geometry_) : std::move(seen.fork);
            life->inode.format = seen.format;
            life->inode.extents = seen.extents;
        }
    }
    if (is_later && !is_emptied) {
        Inode core = std::move(seen);
        core.fork = std::move(life->inode.fork);
        if (!core.fork.empty()) {
            core.format = life->inode.format;
            core.extents = life->inode.extents;
        }
        life->inode = std::move(core);
        life->core_is_known = life->size_is_known = life->from_log = true;
    }
    if (is_later) life->sequence = logged.sequence;
}

void Lives::take(LoggedBytes&& bytes) {
    const ByteView view(bytes.bytes);
    std::uint64_t owner = 0;
    constexpr std::size_t kOwner = 40;
    if (geometry_.has_checksums && bytes.from == 0 && (view.has(0, "XDB3") || view.has(0, "XDD3")))
        owner = view.as<big_uint64_t>(kOwner).map([](auto n) { return n.value(); }).value_or(0);
    auto entries = entries_within(view, bytes.from, geometry_);
    if (bytes.from == 0 && owner == 0)
        for (const DirectoryEntry& entry : entries)
            if (entry.name == "." && entry.inode_is_whole) owner = entry.inode;
    if (owner != 0) owners_[bytes.offset][bytes.sequence] = owner;
    for (DirectoryEntry& entry : entries) {
        if (entry.name == "." || entry.name == ".." ||
            (entry.inode_is_whole && !geometry_.offset_of_inode(entry.inode)))
            continue;
        if (sightings_.size() + unplaced_.size() >= kMaxSightings) return;
        Sighting sighting{owner, std::move(entry), bytes.sequence};
        if (owner != 0)
            sightings_.push_back(std::move(sighting));
        else
            unplaced_.push_back({bytes.offset, std::move(sighting)});
    }
}

void Lives::read_chunk(const InodeChunk& chunk) {
    const std::size_t size = geometry_.inode_size;
    for (unsigned i = 0; i < kInodesPerChunk; ++i) {
        if ((chunk.missing >> i & 1U) != 0) continue;
        const bool is_free = (chunk.free >> i & 1U) != 0;
        const std::uint64_t number = chunk.first + i;
        if (!is_free && !lives_.contains(number)) continue;
        const auto offset = geometry_.offset_of_inode(number);
        const auto bytes = offset ? bytes_at(*volume_, *offset, size) : std::nullopt;
        auto inode = bytes ? parse_inode(ByteView(*bytes, *offset), number, geometry_) : std::nullopt;
        if (!inode) continue;
        if (is_free) {
            take_freed(std::move(*inode));
            continue;
        }
        // What it is now has not ended.
        auto& lives = lives_[number];
        count_ -= std::erase_if(lives, [&](const Life& life) { return life.inode.generation == inode->generation; });
        if (lives.empty()) lives_.erase(number);
    }
}

void Lives::look_at(std::uint64_t number) {
    if (groups_.chunk_of(number) != nullptr) return;
    const auto offset = geometry_.offset_of_inode(number);
    const auto bytes = offset ? bytes_at(*volume_, *offset, geometry_.inode_size) : std::nullopt;
    if (auto inode = bytes ? parse_inode(ByteView(*bytes, *offset), number, geometry_) : std::nullopt)
        take_freed(std::move(*inode));
}

// Chunks whose inodes were all freed are given back; they still stand where nothing has taken their place.
void Lives::look_at_free_chunks() {
    const std::uint64_t step = std::uint64_t{geometry_.chunk_alignment} * geometry_.block_size;
    std::uint64_t left = kMaxLooked;
    for (const Extent& run : groups_.space().free_runs()) {
        const std::uint64_t group_size = std::uint64_t{geometry_.group_blocks} * geometry_.block_size;
        // Alignment counts from the start of each group.
        for (std::uint64_t at = run.offset; at < run.end() && left > 0;) {
            const std::uint64_t within = at % group_size;
            if (within % step != 0) {
                at += step - within % step;
                continue;
            }
            --left;
            const auto head = bytes_at(*volume_, at, 2);
            if (head && ByteView(*head).has(0, "IN")) {
                const std::uint64_t first =
                    geometry_.inode_number(static_cast<std::uint32_t>(at / group_size), (within / geometry_.block_size)
                                                                                            << geometry_.inode_bits);
                for (unsigned i = 0; i < kInodesPerChunk; ++i) look_at(first + i);
            }
            at += step;
        }
    }
}

std::uint64_t Lives::owner_at(std::uint64_t offset, std::uint64_t sequence) const {
    const auto told = owners_.find(offset);
    if (told == owners_.end()) return 0;
    const auto later = told->second.upper_bound(sequence);
    return later != told->second.begin() ? std::prev(later)->second : later->second;
}

// A directory that shrinks gives its blocks back, and what they listed stays in them.
void Lives::look_at_free_blocks() {
    const std::uint64_t block = geometry_.block_size;
    const std::uint64_t group_size = std::uint64_t{geometry_.group_blocks} * block;
    std::map<std::uint64_t, std::uint64_t> reach;  // of each group: so far it is looked at
    for (const InodeChunk& chunk : groups_.chunks())
        if (const auto offset = geometry_.offset_of_inode(chunk.first)) {
            std::uint64_t& end = reach[*offset / group_size];
            end = std::max(end, *offset + kNearInodes * block);
        }
    std::uint64_t left = kMaxBlocks;
    for (const Extent& run : groups_.space().free_runs()) {
        const auto group = reach.find(run.offset / group_size);
        const std::uint64_t end = group != reach.end() ? std::min(run.end(), group->second) : 0;
        for (std::uint64_t at = run.offset; at < end && left > 0; at += block, --left) {
            const auto head = bytes_at(*volume_, at, 4);
            if (!head || !ByteView(*head).has(0, "XD")) continue;
            const auto bytes = bytes_at(*volume_, at, static_cast<std::size_t>(geometry_.directory_block_size));
            if (!bytes || !is_directory_block(ByteView(*bytes), geometry_)) continue;
            Directory directory = read_directory_block(ByteView(*bytes, at), geometry_);
            if (directory.owner == 0 || !geometry_.offset_of_inode(directory.owner)) continue;
            owners_[at][0] = directory.owner;
            given_back_.push_back(std::move(directory));
        }
    }
}

// A freed inode: written back with its mode cleared and the next generation, or as it was before.
void Lives::take_freed(Inode&& inode) {
    if (!inode.is_free()) {
        if (!inode.stores_content()) return;
        Life* life = life_of(inode.number, inode.generation);
        if (life == nullptr) return;
        // The log may know it better: as it was written to later.
        const bool is_emptied = inode.size == 0 && life->core_is_known;
        if (is_emptied || (life->from_log && !life->inode.fork.empty() && life->inode.size > 0)) return;
        const auto deleted = life->deleted;
        const std::uint64_t sequence = life->sequence;
        const bool has_extents = inode.format != ForkFormat::extents || inode.extents > 0;
        const bool was_emptied = !has_extents && !is_blank(inode.fork);
        *life = {std::move(inode), true, true, false, was_emptied, deleted, sequence};
        return;
    }
    if (is_blank(inode.fork)) return;
    Life* life = life_of(inode.number, inode.generation - 1);
    if (life == nullptr) return;
    if (!life->deleted) life->deleted = inode.changed;
    if (!life->inode.fork.empty()) return;
    life->fork_is_left = true;
    if (life->core_is_known) {
        life->inode.fork = std::move(inode.fork);
        life->inode.fork_at = inode.fork_at;
        return;
    }
    life->inode = std::move(inode);
    --life->inode.generation;
}

ExtentList Lives::extents_of_life(const Life& life) const {
    if (!life.fork_is_left ||
        (life.core_is_known && life.inode.extents > 0 && life.inode.format == ForkFormat::extents))
        return extents_of(life.inode, geometry_, *volume_);
    // Freeing leaves the records where they are and counts none of them.
    ExtentList list;
    list.extents = read_extents(ByteView(life.inode.fork), life.inode.fork.size(), geometry_);
    if (life.size_is_known) {
        const std::uint64_t blocks = divide_up(life.inode.size, geometry_.block_size);
        while (!list.extents.empty() && list.extents.back().start >= blocks) list.extents.pop_back();
    }
    return list;
}

}  // namespace dredger::xfs

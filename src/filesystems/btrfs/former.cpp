#include "filesystems/btrfs/former.h"

#include <algorithm>

#include "volumes/trace.h"

namespace dredger::btrfs {
namespace {

constexpr std::size_t kMaxFiles = 2'000'000;
constexpr std::size_t kMaxSums = 4'000'000;
constexpr std::uint64_t kAtOnce = 1 << 20;  // bytes read together

bool is_file_tree(std::uint64_t owner) { return owner == FS_TREE || (owner >= FIRST_FREE && owner <= LAST_FREE); }

}  // namespace

const std::pair<std::uint64_t, std::string>* FormerFile::name() const {
    const auto last =
        std::max_element(names.begin(), names.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    return last == names.end() ? nullptr : &last->first;
}

const FormerFile* Former::file(std::uint64_t root, std::uint64_t inode) const {
    const auto tree = files_.find(root);
    if (tree == files_.end()) return nullptr;
    const auto file = tree->second.find(inode);
    return file == tree->second.end() ? nullptr : &file->second;
}

bool Former::read(const Nodes& nodes, const std::function<bool(std::uint64_t, std::uint64_t)>& is_live,
                  const std::function<bool(const char*, std::uint64_t, std::uint64_t)>& go_on) {
    const std::uint64_t size = nodes.geometry().node_size;
    sector_size_ = nodes.geometry().sector_size;
    // As much of a chunk as the volume really has of one of its copies.
    const auto length_of = [&](const ChunkPlace& chunk) {
        const std::uint64_t first = *std::min_element(chunk.copies.begin(), chunk.copies.end());
        const std::uint64_t volume_size = nodes.volume()->size();
        return chunk.holds_nodes() ? std::min(chunk.length, volume_size - std::min(first, volume_size)) : 0;
    };
    std::uint64_t total = 0, done = 0;
    for (const ChunkPlace& chunk : nodes.chunks().all()) total += length_of(chunk);
    for (const ChunkPlace& chunk : nodes.chunks().all()) {
        const std::uint64_t length = length_of(chunk);
        for (std::uint64_t from = 0; from < length; from += kAtOnce) {
            if (go_on && !go_on("reading older trees", done, total)) return false;
            const std::uint64_t part = std::min(kAtOnce, length - from);
            done += part;
            // Where one copy is damaged, the other one may stand.
            std::vector<std::optional<std::vector<std::byte>>> copies;
            for (const std::uint64_t copy : chunk.copies)
                copies.push_back(bytes_at(*nodes.volume(), copy + from, static_cast<std::size_t>(part)));
            for (std::uint64_t at = 0; at + size <= part; at += size)
                for (std::size_t copy = 0; copy < copies.size(); ++copy) {
                    if (!copies[copy]) continue;
                    const auto there =
                        std::span(*copies[copy]).subspan(static_cast<std::size_t>(at), static_cast<std::size_t>(size));
                    const auto header = ByteView(there).as<Header>(0);
                    if (header->bytenr != chunk.logical + from + at || header->level != 0) continue;
                    const auto leaf = nodes.parse({there.begin(), there.end()}, chunk.logical + from + at,
                                                  chunk.copies[copy] + from + at);
                    if (!leaf) continue;
                    take_leaf(*leaf, is_live);
                    break;
                }
        }
    }
    std::sort(sums_.begin(), sums_.end(), [](const SumRun& a, const SumRun& b) {
        return a.logical != b.logical ? a.logical < b.logical : a.generation > b.generation;
    });
    return true;
}

namespace {

// Which extents of each file a leaf tells all of. Keys stand in order: between two of them the tree had nothing. While
// a file has a name, what it had ends where the next one begins; afterwards its extents go one by one, the last ones
// first.
class Coverage {
  public:
    explicit Coverage(std::uint64_t generation) : generation_(generation) {}

    void come_to(std::uint64_t inode) {
        if (inode == inode_) return;
        settle(true);
        *this = Coverage(generation_);
        inode_ = inode;
    }
    void has_name(FormerFile& file) {
        file_ = &file;
        has_name_ = true;
    }
    void extent_at(FormerFile& file, std::uint64_t start) {
        file_ = &file;
        if (!has_extents_) first_ = start;
        has_extents_ = true;
        last_ = start;
    }
    void end() { settle(false); }

  private:
    void settle(bool another_follows) {
        const bool to_its_end = has_name_ && another_follows;
        if (has_extents_ || to_its_end)
            file_->extents.cover(has_name_ ? 0 : first_, to_its_end ? UINT64_MAX : last_, generation_);
    }

    std::uint64_t generation_, inode_ = 0;
    FormerFile* file_ = nullptr;
    bool has_name_ = false, has_extents_ = false;
    std::uint64_t first_ = 0, last_ = 0;  // bytes of the file at which extents start
};

}  // namespace

void Former::take_leaf(const Node& leaf, const std::function<bool(std::uint64_t, std::uint64_t)>& is_live) {
    const std::uint64_t owner = leaf.header().owner, generation = leaf.header().generation;
    if (owner == CSUM_TREE) return take_sums(leaf);
    const auto file_of = [&](std::uint64_t inode) -> FormerFile* {
        if (inode < FIRST_FREE || inode > LAST_FREE || is_live(owner, inode)) return nullptr;
        auto& tree = files_[owner];
        const auto there = tree.find(inode);
        if (there != tree.end()) return &there->second;
        if (count_ >= kMaxFiles) return nullptr;
        ++count_;
        return &tree[inode];
    };
    const auto name_root = [&](std::uint64_t root, FormerRoot&& named) {
        FormerRoot& known = roots_[root];
        if (generation >= known.leaf) known = std::move(named);
    };
    Coverage coverage(generation);
    for (std::size_t i = 0; i < leaf.count(); ++i) {
        const auto entry = leaf.item(i);
        if (!entry) continue;
        const Key& key = entry->key;
        coverage.come_to(key.objectid);
        if (owner == ROOT_TREE) {
            const auto ref = entry->data.as<RootRef>(0);
            const auto name = ref ? entry->data.slice(sizeof(RootRef), ref->name_len) : tl::unexpected<Error>(Error{});
            if (key.type == ROOT_BACKREF && ref && name)
                name_root(key.objectid,
                          {key.offset, ref->dirid,
                           std::string(reinterpret_cast<const char*>(name->bytes().data()), name->size()), generation});
            continue;
        }
        if (!is_file_tree(owner)) return;
        if (key.type == DIR_INDEX) {
            const auto item = entry->data.as<DirItem>(0);
            const auto name =
                item ? entry->data.slice(sizeof(DirItem), item->name_len) : tl::unexpected<Error>(Error{});
            if (!item || !name || name->empty()) continue;
            std::string text(reinterpret_cast<const char*>(name->bytes().data()), name->size());
            if (item->location.type == ROOT_ITEM) {
                name_root(item->location.objectid, {owner, key.objectid, std::move(text), generation});
            } else if (FormerFile* file =
                           item->location.type == INODE_ITEM ? file_of(item->location.objectid) : nullptr) {
                auto& seen = file->names[{key.objectid, std::move(text)}];
                seen = std::max(seen, generation);
            }
            continue;
        }
        FormerFile* file =
            key.type == INODE_ITEM || key.type == INODE_REF || key.type == INODE_EXTREF || key.type == EXTENT_DATA
                ? file_of(key.objectid)
                : nullptr;
        if (file == nullptr) continue;
        if (key.type == INODE_ITEM) {
            const auto inode = parse_inode(entry->data);
            if (!inode) continue;
            if (inode->links > 0) coverage.has_name(*file);
            if (inode->links == 0) {
                file->deleted = inode->changed;
            } else if (!file->inode ||
                       std::pair(generation, inode->sequence) > std::pair(file->inode_leaf, file->inode->sequence)) {
                file->inode = *inode;
                file->inode_leaf = generation;
            }
        } else if (key.type == EXTENT_DATA) {
            coverage.extent_at(*file, key.offset);
            if (auto extent = parse_file_extent(key, entry->data)) file->extents.add(*extent, generation);
        } else {
            for (Name& name : names_in(key, entry->data)) {
                auto& seen = file->names[{name.parent, std::move(name.name)}];
                seen = std::max(seen, generation);
            }
        }
    }
    coverage.end();
}

void Former::take_sums(const Node& leaf) {
    for (std::size_t i = 0; i < leaf.count() && sums_.size() < kMaxSums; ++i) {
        const auto entry = leaf.item(i);
        if (!entry || entry->key.objectid != EXTENT_CSUM || entry->key.type != EXTENT_CSUM_ITEM) continue;
        const std::uint64_t length = entry->data.size() / sizeof(std::uint32_t) * sector_size_;
        if (length == 0 || !checked_add(entry->key.offset, length)) continue;
        sums_.push_back({entry->key.offset, length, leaf.header().generation, entry->data.origin()});
        longest_ = std::max(longest_, length);
    }
}

std::vector<std::uint32_t> Former::sums_of(const Nodes& nodes, const std::vector<Summed>& ranges) const {
    std::vector<std::uint32_t> sums;
    if (!nodes.geometry().has_crc || sums_.empty()) return sums;
    for (const Summed& range : ranges)
        for (std::uint64_t at = range.logical; at < range.end();) {
            // The oldest of those that cover this sector and can be its own.
            const SumRun* best = nullptr;
            auto run = std::lower_bound(sums_.begin(), sums_.end(), at - std::min(at, longest_),
                                        [](const SumRun& r, std::uint64_t logical) { return r.logical < logical; });
            for (; run != sums_.end() && run->logical <= at; ++run)
                if (at - run->logical < run->length && run->generation >= range.written &&
                    run->generation < range.before && (best == nullptr || run->generation < best->generation))
                    best = &*run;
            if (best == nullptr) return {};
            const std::uint64_t index = (at - best->logical) / sector_size_;
            const std::uint64_t count =
                std::min(divide_up(range.end() - at, sector_size_), best->length / sector_size_ - index);
            const auto bytes = bytes_at(*nodes.volume(), best->place + index * sizeof(std::uint32_t),
                                        static_cast<std::size_t>(count * sizeof(std::uint32_t)));
            if (!bytes) return {};
            for (std::size_t i = 0; i < count; ++i) sums.push_back(*ByteView(*bytes).u32le(i * sizeof(std::uint32_t)));
            at += count * sector_size_;
        }
    return sums;
}

}  // namespace dredger::btrfs

#include "filesystems/ext/lives.h"

#include <algorithm>
#include <map>

namespace dredger::ext {
namespace {

constexpr std::size_t kMaxLives = 4'000'000;
constexpr std::size_t kMaxInlineFolders = 200'000;

using Key = std::pair<std::uint32_t, std::uint32_t>;  // inode, generation

bool is_before(std::uint32_t a, std::uint32_t b) { return static_cast<std::int32_t>(a - b) < 0; }

// A cleared inode says when it ended; one in the list of orphans has the next of them there instead.
std::uint32_t deletion_time(const Inode& inode) {
    constexpr std::uint32_t kEarliest = 315532800;  // 1980
    return inode.deleted >= kEarliest ? inode.deleted : 0;
}

// Left by an earlier file system, nothing vouches for it.
bool is_credible(const Inode& inode) {
    constexpr std::int64_t kEarliest = 315532800;            // 1980
    constexpr std::int64_t kLatest = std::int64_t{1} << 32;  // 2106
    constexpr std::uint16_t kMaxLinks = 65000;
    const auto is_time = [](const FileTime& time) { return time.seconds > kEarliest && time.seconds < kLatest; };
    return inode.links > 0 && inode.links <= kMaxLinks && inode.deleted == 0 && is_time(inode.changed) &&
           is_time(inode.modified) && (inode.is_file() || inode.is_folder() || inode.is_symlink()) &&
           (inode.size == 0 || inode.has_layout());
}

Life life_of(const Inode& inode, Life::End end) {
    Life life;
    life.inode = inode.number;
    life.generation = inode.generation;
    life.type = type_of(inode);
    life.end = end;
    return life;
}

class Collector {
  public:
    Collector(const Geometry& geometry, const Groups& groups, const Journal& journal)
        : geometry_(geometry), groups_(groups), journal_(journal) {}

    // What copies of the inode tables say, the oldest first.
    void read_journal() {
        for (const BlockCopy& copy : journal_.copies()) {
            const auto first = groups_.first_inode_in(copy.block);
            if (!first) continue;
            const auto bytes = journal_.bytes_of(copy);
            for (std::size_t at = 0; at + geometry_.inode_size <= bytes.size(); at += geometry_.inode_size) {
                const auto number = static_cast<std::uint32_t>(*first + at / geometry_.inode_size);
                if (number > geometry_.inodes || number < geometry_.first_inode) continue;
                const ByteView view(std::span<const std::byte>(bytes).subspan(at, geometry_.inode_size),
                                    copy.place + at);
                if (!checksum_agrees(view, number, geometry_)) continue;
                if (const auto inode = parse_inode(view, number, geometry_); inode && inode->mode != 0)
                    take_image(*inode, copy.sequence);
            }
        }
    }

    void take_present(const Inode& inode) {
        const auto found = lives_.find({inode.number, inode.generation});
        if (inode.is_in_use()) {
            if (found != lives_.end()) {
                found->second.end = Life::End::lives;
                found->second.last.reset();
            }
            return;
        }
        if (lives_.size() >= kMaxLives) return;
        Life& life =
            lives_.try_emplace({inode.number, inode.generation}, life_of(inode, Life::End::deleted)).first->second;
        life.end = Life::End::deleted;
        life.deleted = deletion_time(inode);
        // Where nothing was cleared, what stands there is the best that there is.
        if (inode.has_layout() && inode.size > 0) {
            life.last = inode;
            life.from_journal = false;
        } else if (!life.last && inode.size == 0 && inode.is_folder()) {
            life.last = inode;
        }
    }

    void take_former(const Inode& inode) {
        if (lives_.size() >= kMaxLives || !is_credible(inode)) return;
        const auto [life, is_new] = lives_.try_emplace({inode.number, inode.generation});
        if (!is_new) return;
        life->second = life_of(inode, Life::End::formatted);
        life->second.last = inode;
    }

    std::vector<Lives::InlineFolder> take_inline_folders() { return std::move(inline_folders_); }

    // An inode that leads a new life has led the others to their end.
    std::vector<Life> finish() {
        std::vector<Life> all;
        for (auto& [key, life] : lives_) {
            if (life.end == Life::End::lives && is_only_one(key.first)) continue;
            all.push_back(life);
        }
        std::stable_sort(all.begin(), all.end(), [](const Life& a, const Life& b) {
            if (a.inode != b.inode) return a.inode < b.inode;
            if (a.has_first != b.has_first) return !a.has_first;
            return a.has_first && is_before(a.first, b.first);
        });
        return all;
    }

  private:
    void take_image(const Inode& inode, std::uint32_t sequence) {
        const Key key{inode.number, inode.generation};
        if (lives_.size() >= kMaxLives && lives_.find(key) == lives_.end()) return;
        const auto [found, is_new] = lives_.try_emplace(key);
        Life& life = found->second;
        if (is_new) {
            life = life_of(inode, Life::End::replaced);
            life.first = sequence;
            life.has_first = true;
        } else if (is_before(sequence, life.first)) {
            life.first = sequence;
        }
        if (!inode.is_in_use()) {
            if (life.deleted == 0) life.deleted = deletion_time(inode);
            return;
        }
        if (inode.is_folder() && inode.has_inline_data() && inline_folders_.size() < kMaxInlineFolders)
            inline_folders_.push_back({inode, sequence});
        if (life.last && is_before(sequence, life.sequence)) return;
        life.last = inode;
        life.sequence = sequence;
        life.from_journal = true;
    }

    bool is_only_one(std::uint32_t inode) const {
        const auto first = lives_.lower_bound({inode, 0});
        return first != lives_.end() && (std::next(first) == lives_.end() || std::next(first)->first.first != inode);
    }

    const Geometry& geometry_;
    const Groups& groups_;
    const Journal& journal_;
    std::map<Key, Life> lives_;
    std::vector<Lives::InlineFolder> inline_folders_;
};

}  // namespace

FileType type_of(const Inode& inode) {
    switch (inode.mode >> 12U) {
        case 1: return FileType::pipe;
        case 2: return FileType::character_device;
        case 4: return FileType::folder;
        case 6: return FileType::block_device;
        case 8: return FileType::file;
        case 10: return FileType::symlink;
        case 12: return FileType::socket;
        default: return FileType::unknown;
    }
}

std::optional<Lives> Lives::read(const Geometry& geometry, const Groups& groups, const Journal& journal,
                                 const InodeTable& table, const std::vector<bool>& reached,
                                 const std::function<bool(std::uint64_t group)>& done) {
    Collector collector(geometry, groups, journal);
    collector.read_journal();
    Lives lives;
    bool stopped = false;
    table.each(
        [&](const InodeTable::Entry& entry) {
            const Inode& inode = entry.inode;
            if (inode.number < geometry.first_inode) return true;
            if (!entry.in_table)
                collector.take_former(inode);
            else
                collector.take_present(inode);
            if (entry.in_table && inode.is_in_use() && !reached[inode.number] && (inode.flags & EA_INODE_FL) == 0)
                lives.unreached_.push_back(inode.number);
            return true;
        },
        [&](std::uint64_t group) {
            stopped = stopped || !done(group);
            return !stopped;
        });
    if (stopped) return std::nullopt;
    lives.lives_ = collector.finish();
    lives.inline_folders_ = collector.take_inline_folders();
    return lives;
}

std::span<const Life> Lives::of(std::uint32_t inode) const {
    const auto first =
        std::partition_point(lives_.begin(), lives_.end(), [&](const Life& life) { return life.inode < inode; });
    const auto behind =
        std::partition_point(first, lives_.end(), [&](const Life& life) { return life.inode == inode; });
    return {first, behind};
}

const Life* Lives::at(std::uint32_t inode, FileType type, std::optional<std::uint32_t> sequence) const {
    const auto fits = [&](const Life& life) { return type == FileType::unknown || life.type == type; };
    const Life* found = nullptr;
    for (const Life& life : of(inode)) {
        if (!fits(life)) continue;
        if (sequence) {
            // The first of all led it if none had begun by then.
            if (found == nullptr || !life.has_first || !is_before(*sequence, life.first)) found = &life;
        } else if (life.end != Life::End::lives) {
            found = &life;
        }
    }
    return found;
}

Mapping Lives::map(const Life& life, const Geometry& geometry, const Journal& journal, const InodeTable& table,
                   const Medium& volume) {
    if (!life.last) return {};
    if (!life.from_journal) return table.map(*life.last);
    const auto size = static_cast<std::size_t>(geometry.block_size);
    return map_blocks(*life.last, geometry, [&](std::uint64_t block, const std::function<bool(ByteView)>& fits) {
        const auto copies = journal.copies_of(block);
        const auto shows = [&](const BlockCopy& copy) {
            const auto bytes = journal.bytes_of(copy);
            return !bytes.empty() && fits(ByteView(bytes, copy.place));
        };
        // As the inode's own transaction left it, then as it stands, then as later ones had it.
        const auto later = std::partition_point(copies.begin(), copies.end(), [&](const BlockCopy& copy) {
            return !is_before(life.sequence, copy.sequence);
        });
        for (auto copy = later; copy != copies.begin();)
            if (shows(*--copy)) return true;
        const auto bytes = volume.bytes(block * geometry.block_size, size);
        if (bytes && fits(ByteView(*bytes, block * geometry.block_size))) return true;
        return std::any_of(later, copies.end(), shows);
    });
}

}  // namespace dredger::ext

#include "filesystems/ext/sightings.h"

#include <algorithm>

namespace dredger::ext {
namespace {

constexpr std::size_t kMaxSightings = 4'000'000;
constexpr std::size_t kTail = 12;  // bytes, of the entry that holds a block's checksum

bool is_before(std::uint32_t a, std::uint32_t b) { return static_cast<std::int32_t>(a - b) < 0; }

}  // namespace

void BlockOwners::add(std::uint64_t block, std::uint32_t folder, std::uint32_t generation, bool live) {
    owners_.push_back({block, folder, generation, live});
}

// Those that live come first.
void BlockOwners::seal() {
    std::stable_sort(owners_.begin(), owners_.end(), [](const Owner& a, const Owner& b) {
        return a.block != b.block ? a.block < b.block : a.live && !b.live;
    });
}

std::span<const BlockOwners::Owner> BlockOwners::of(std::uint64_t block) const {
    const auto first =
        std::partition_point(owners_.begin(), owners_.end(), [&](const Owner& owner) { return owner.block < block; });
    const auto behind =
        std::partition_point(first, owners_.end(), [&](const Owner& owner) { return owner.block == block; });
    return {first, behind};
}

// Whether the checksum at the block's end is of this directory; true where there are none.
bool Sightings::is_of(ByteView bytes, std::uint32_t folder, std::uint32_t generation) const {
    if (!geometry_.has_checksums() || bytes.size() < kTail) return true;
    const std::size_t tail = bytes.size() - kTail;
    // The root and the nodes of a hashed directory have theirs elsewhere.
    if (!bytes.has(tail, std::string_view("\0\0\0\0\x0C\0\0\xDE", 8))) return true;
    return inode_seed(geometry_, folder, generation).add(bytes.bytes().first(tail)).value() == *bytes.u32le(tail + 8);
}

std::uint32_t Sightings::folder_of(std::uint64_t block, ByteView bytes, const DirectoryBlock& read) const {
    if (read.self != 0) return directory_begun_by(bytes, geometry_);
    for (const BlockOwners::Owner& owner : owners_.of(block))
        if (is_of(bytes, owner.folder, owner.generation)) return owner.folder;
    if (!geometry_.has_checksums()) return 0;
    // The block may have been another directory's before.
    for (const BlockOwners::Owner& owner : owners_.all())
        if (!owner.live && is_of(bytes, owner.folder, owner.generation)) return owner.folder;
    return 0;
}

void Sightings::read_journal(const Journal& journal, const Groups& groups) {
    for (const BlockCopy& copy : journal.copies()) {
        if (groups.first_inode_in(copy.block)) continue;
        const auto bytes = journal.bytes_of(copy);
        const ByteView view(bytes, copy.place);
        if (bytes.empty() || !is_directory_block(view, geometry_)) continue;
        const DirectoryBlock read = read_directory_block(view, geometry_);
        if (const std::uint32_t folder = folder_of(copy.block, view, read); folder != 0)
            take(folder, read, copy.sequence);
    }
}

void Sightings::read_block(ByteView block) {
    if (!is_directory_block(block, geometry_)) return;
    const DirectoryBlock read = read_directory_block(block, geometry_);
    const std::uint32_t folder = folder_of(block.origin() / geometry_.block_size, block, read);
    if (folder != 0) take(folder, read, std::nullopt);
}

void Sightings::take(std::uint32_t folder, const DirectoryBlock& block, std::optional<std::uint32_t> sequence) {
    for (const DirectoryEntry& entry : block.entries) {
        auto& seen = seen_[{folder, entry.name}];
        const auto known =
            std::find_if(seen.begin(), seen.end(), [&](const Sighting& one) { return one.inode == entry.inode; });
        // What stands in given-up room was there before the block was copied.
        const auto when = entry.live ? sequence : std::nullopt;
        if (known == seen.end()) {
            if (count_ >= kMaxSightings) return;
            seen.push_back({folder, entry.inode, entry.name, entry.type, when});
            ++count_;
        } else if (when && (!known->sequence || is_before(*known->sequence, *when))) {
            known->sequence = when;
        }
    }
}

std::vector<Sighting> Sightings::finish(const std::function<bool(const Sighting&)>& is_live) {
    std::vector<Sighting> all;
    for (auto& [key, seen] : seen_)
        for (Sighting& one : seen)
            if (!is_live(one)) all.push_back(std::move(one));
    seen_.clear();
    return all;
}

}  // namespace dredger::ext

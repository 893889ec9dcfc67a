#include "filesystems/fat/chains.h"

#include <algorithm>

namespace dredger::fat {

Chains::Chains(MediumPtr volume, const Geometry& geometry, const Table& table)
    : volume_(std::move(volume)),
      geometry_(geometry),
      table_(table),
      followed_(std::size_t{geometry.cluster_count} + 2) {}

Chains::Chain Chains::follow(std::uint32_t first, std::uint64_t most) {
    Chain chain;
    std::uint64_t length = 0;
    for (std::uint32_t cluster = first; length < most; ++length) {
        if (!geometry_.holds(cluster) || followed_[cluster]) {
            chain.whole = false;
            break;
        }
        const Entry entry = table_.entry(cluster);
        if (entry.link == Link::free || entry.link == Link::bad) {
            chain.whole = false;
            break;
        }
        followed_[cluster] = true;
        if (!chain.runs.empty() && chain.runs.back().first + chain.runs.back().count == cluster)
            ++chain.runs.back().count;
        else
            chain.runs.push_back({cluster, 1});
        if (entry.link != Link::next) {
            chain.whole = entry.link == Link::end;
            break;
        }
        cluster = entry.next;
    }
    return chain;
}

std::vector<Slot> Chains::slots_at(std::uint64_t offset, std::uint64_t length) const {
    std::vector<std::byte> bytes(static_cast<std::size_t>(length));
    std::vector<Extent> bad;
    if (!volume_->read(offset, bytes, &bad)) return {};
    for (const Extent& lost : bad) unreadable_ += lost.length;
    const ByteView view(bytes, offset);
    std::vector<Slot> slots;
    slots.reserve(bytes.size() / kEntrySize);
    for (std::size_t at = 0; at + kEntrySize <= bytes.size(); at += kEntrySize)
        if (auto entry = view.as<DirectoryEntry>(at)) slots.push_back({offset + at, *entry});
    return slots;
}

std::vector<Slot> Chains::slots_of(std::uint32_t cluster) const {
    return slots_at(geometry_.offset_of(cluster), geometry_.cluster_size);
}

std::vector<Slot> Chains::fixed_root() const {
    const std::uint64_t there = volume_->size() > geometry_.root_offset ? volume_->size() - geometry_.root_offset : 0;
    return slots_at(geometry_.root_offset, std::min<std::uint64_t>(geometry_.root_entries * kEntrySize, there));
}

std::vector<Extent> Chains::extents(const std::vector<Run>& runs, std::uint64_t size) const {
    std::vector<Extent> extents;
    for (const Run& run : runs) {
        if (size == 0) break;
        const std::uint64_t length = std::min(size, run.count * geometry_.cluster_size);
        extents.push_back({geometry_.offset_of(run.first), length});
        size -= length;
    }
    return extents;
}

}  // namespace dredger::fat

#include "filesystems/ext/pointer_lists.h"

#include <algorithm>

namespace dredger::ext {
namespace {

constexpr std::uint32_t kDirect = 12;           // EXT2_NDIR_BLOCKS
constexpr std::uint64_t kAtOnce = 1 << 20;      // bytes read together
constexpr std::size_t kMaxPointers = 1U << 26;  // that are kept
constexpr std::uint32_t kNearGap = 64;          // blocks that may lie between what two lists of one file tell

}  // namespace

PointerLists::PointerLists(const Medium& volume, const Geometry& geometry, const SpaceMap& space,
                           const std::function<bool(std::uint64_t, std::uint64_t)>& go_on)
    : block_size_(geometry.block_size), blocks_(geometry.size() / geometry.block_size), space_(space) {
    const auto runs = space.free_runs();
    std::uint64_t total = 0, done = 0;
    for (const Extent& run : runs) total += run.length;
    std::vector<std::byte> bytes;
    for (const Extent& run : runs)
        for (std::uint64_t at = run.offset; at < run.end(); at += bytes.size()) {
            if (go_on && !go_on(done, total)) return;
            bytes.resize(static_cast<std::size_t>(std::min(kAtOnce / block_size_ * block_size_, run.end() - at)));
            done += bytes.size();
            std::vector<Extent> bad;
            if (!volume.read(at, bytes, &bad)) continue;
            for (std::size_t within = 0; within + block_size_ <= bytes.size(); within += block_size_)
                look_at(ByteView(std::span(bytes).subspan(within, static_cast<std::size_t>(block_size_))),
                        (at + within) / block_size_);
        }
    tell_double_lists();
}

// Pointers to free blocks, one after the other, and zeros behind the last one.
void PointerLists::look_at(ByteView block, std::uint64_t number) {
    const std::size_t most = block.size() / sizeof(std::uint32_t);
    std::size_t count = 0, steps = 0;
    std::uint32_t before = 0;
    for (; count < most; ++count) {
        const std::uint32_t pointer = *block.u32le(count * sizeof(std::uint32_t));
        if (pointer == 0) break;
        if (pointer >= blocks_ || pointer <= kDirect || pointer == before) return;
        steps += pointer == before + 1 ? 1 : 0;
        before = pointer;
    }
    // Files lie in runs, mostly.
    if (count == 0 || pointers_ + count > kMaxPointers || (count > 8 && steps < count / 4)) return;
    if (const auto rest = block.slice(count * sizeof(std::uint32_t), (most - count) * sizeof(std::uint32_t));
        !rest || !(rest->size() == 0 || (rest->is_uniform() && rest->bytes()[0] == std::byte{0})))
        return;
    const std::uint32_t first = *block.u32le(0);
    if (space_.taken_bytes_in({first * block_size_, 1}) > 0) return;
    Blocks& list = lists_[number];
    for (std::size_t i = 0; i < count; ++i) list.push_back(*block.u32le(i * sizeof(std::uint32_t)));
    pointers_ += count;
    by_first_.emplace(first, number);
}

void PointerLists::tell_double_lists() {
    for (const auto& [number, list] : lists_) {
        const bool is_double =
            std::all_of(list.begin(), list.end(), [&](std::uint32_t one) { return lists_.contains(one); });
        if (is_double) double_by_first_.emplace(lists_.at(list.front()).front(), number);
    }
}

// What follows when a whole list is used up.
void PointerLists::append_double(Blocks& blocks) const {
    const std::size_t most = static_cast<std::size_t>(block_size_ / sizeof(std::uint32_t));
    const std::uint32_t last = blocks.back();
    const auto next = double_by_first_.upper_bound(last);
    if (next == double_by_first_.end() || next->first - last > kNearGap) return;
    for (const std::uint32_t child : lists_.at(next->second)) {
        const Blocks& list = lists_.at(child);
        blocks.insert(blocks.end(), list.begin(), list.end());
        if (list.size() < most) return;
    }
}

std::vector<Extent> PointerLists::layout_of(const Blocks& blocks) const {
    std::vector<Extent> layout;
    for (const std::uint32_t block : blocks) {
        const Extent place{block * block_size_, block_size_};
        if (space_.taken_bytes_in(place) > 0) break;
        append(layout, place);
    }
    return layout;
}

std::vector<std::vector<Extent>> PointerLists::from(std::uint64_t start) const {
    std::vector<std::vector<Extent>> layouts;
    const std::uint64_t block = start / block_size_;
    if (start % block_size_ != 0 || block + kDirect + 1 >= blocks_) return layouts;
    const auto first = static_cast<std::uint32_t>(block);
    const auto try_list = [&](std::uint64_t number) {
        Blocks blocks;
        for (std::uint32_t i = 0; i < kDirect; ++i) blocks.push_back(first + i);
        const Blocks& list = lists_.at(number);
        blocks.insert(blocks.end(), list.begin(), list.end());
        if (list.size() == block_size_ / sizeof(std::uint32_t)) append_double(blocks);
        layouts.push_back(layout_of(blocks));
    };
    const auto [begin, end] = by_first_.equal_range(first + kDirect);
    for (auto list = begin; list != end; ++list) try_list(list->second);
    // Or the list lies right behind the direct blocks, and what it lists behind it.
    if (const auto list = lists_.find(first + kDirect); list != lists_.end()) try_list(list->first);
    return layouts;
}

}  // namespace dredger::ext

#include "filesystems/hfsplus/placing.h"

#include <algorithm>

#include "media/content.h"
#include "volumes/trace.h"

namespace dredger::hfsplus {
namespace {

constexpr std::uint64_t kLargestGround = std::uint64_t{256} << 20;  // bytes between two files that are looked at
constexpr std::size_t kHead = 4096;                                 // bytes

}  // namespace

void Placing::add_known(std::uint32_t id, const Fork& data) {
    Blocks all;
    for (const ExtentDescriptor& extent : data.extents) {
        if (extent.blockCount == 0) break;
        const std::uint64_t first = extent.startBlock, end = first + extent.blockCount;
        held_[first] = std::max(held_[first], end);
        if (all.end == 0) all.first = first;
        all.end = end;
    }
    all.fills_last = data.size % geometry_.block_size == 0;
    if (all.end > all.first) ids_[id].blocks = all;
}

void Placing::add_wanted(std::uint32_t id, std::string_view name) { ids_[id].wanted = name; }

std::map<std::uint32_t, Placed> Placing::place() const {
    std::map<std::uint32_t, Placed> placed;
    if (!options_.head_for_name || !options_.content_length) return placed;
    Place before = ids_.end();
    for (auto here = ids_.begin(); here != ids_.end(); ++here) {
        if (!here->second.blocks) continue;
        if (before != ids_.end()) place_between(before, here, placed);
        before = here;
    }
    if (before != ids_.end()) place_between(before, ids_.end(), placed);
    return placed;
}

// Whether the file's own end still stands in its last block. Where it does not, another file was written over it, which
// may go on behind it.
bool Placing::starts_something(const Blocks& before) const {
    const auto last = bytes_at(*volume_, geometry_.place_of(before.end) - 1, 1);
    return last && (last->front() == std::byte{0} || before.fills_last);
}

// Up to which block nobody has anything, nor had.
std::uint64_t Placing::free_until(std::uint64_t block, std::uint64_t end) const {
    end = std::min(end, block + kLargestGround / geometry_.block_size);
    if (const auto next = held_.lower_bound(block); next != held_.end()) end = std::min(end, next->first);
    std::uint64_t at = block;
    while (at < end && at < space_.units() && !space_.taken(at)) ++at;
    return at;
}

void Placing::place_between(Place before, Place behind, std::map<std::uint32_t, Placed>& placed) const {
    std::vector<Place> wanted;
    std::uint64_t between = 0;
    for (auto one = std::next(before); one != behind; ++one) {
        ++between;
        if (!one->second.wanted.empty()) wanted.push_back(one);
    }
    if (wanted.empty()) return;
    std::uint64_t at = before->second.blocks->end;
    // One that was put into a gap in front says nothing of where these end.
    const bool is_ahead = behind != ids_.end() && behind->second.blocks->first >= at;
    const std::uint64_t end = is_ahead ? behind->second.blocks->first : geometry_.total_blocks;
    if (end <= at) return;
    const std::uint64_t next_id = behind != ids_.end() ? behind->first : geometry_.next_id;
    const std::uint64_t until = free_until(at, end);
    const Extent all{geometry_.place_of(at), (until - at) * geometry_.block_size};
    // Nobody is missing whose content could be among theirs, or as many lie there as are looked for.
    const bool all_known = starts_something(*before->second.blocks) &&
                           ((next_id > before->first && between == next_id - before->first - 1) ||
                            ends_on(all, wanted.size() + 1) == wanted.size());
    std::vector<std::uint32_t> unproven;
    for (const Place& one : wanted) {
        if (at >= until) break;
        const Extent ground{geometry_.place_of(at), (until - at) * geometry_.block_size};
        auto found = placed_at(one->second.wanted, ground, wanted.size() == 1 && until == end, all_known);
        if (!found)
            if (const auto start = only_start(one->second.wanted, ground))
                if ((found = placed_at(one->second.wanted, {*start, ground.end() - *start}, false, false)))
                    found->is_sure = false;
        if (!found) continue;
        placed[one->first] = *found;
        if (!found->is_proven) unproven.push_back(one->first);
        at = (found->start + found->size - geometry_.base + geometry_.block_size - 1) / geometry_.block_size;
    }
    // What only looks like theirs is theirs where all of it together fills the ground between the two.
    const bool fills_ground = is_ahead && at == end;
    for (const std::uint32_t id : unproven)
        if (!fills_ground) placed[id].is_sure = false;
}

// `alone`: nobody else's content is on the ground. `all_known`: nobody's is who is not known of.
std::optional<Placed> Placing::placed_at(std::string_view name, const Extent& ground, bool alone,
                                         bool all_known) const {
    const auto head =
        bytes_at(*volume_, ground.offset, static_cast<std::size_t>(std::min<std::uint64_t>(kHead, ground.length)));
    if (!head) return std::nullopt;
    // What fills up the last block of a short file is not its own.
    const auto last = std::find_if(head->rbegin(), head->rend(), [](std::byte b) { return b != std::byte{0}; });
    const auto own = std::span(*head).first(static_cast<std::size_t>(head->rend() - last));
    const Agreement agreement = own.empty() ? Agreement::blank : options_.head_for_name(name, ByteView(own));
    const bool goes = agreement == Agreement::agrees ||
                      (all_known && (agreement == Agreement::fits || (alone && agreement == Agreement::unknown)));
    if (!goes || speaks_against(agreement)) return std::nullopt;
    const Content content(volume_, std::vector{ground});
    if (agreement == Agreement::agrees)
        if (const auto length = options_.content_length(name, content); length && *length > 0)
            return Placed{ground.offset, std::min(*length, ground.length), true};
    const std::uint64_t length = first_end(ground);
    if (length == 0) return std::nullopt;
    // Of a format that tells where it ends this may be a piece.
    return Placed{ground.offset, length, false, agreement != Agreement::agrees};
}

// Where others stand in front, whose names are lost: the only block that begins as the name says, if there is one.
std::optional<std::uint64_t> Placing::only_start(std::string_view name, const Extent& ground) const {
    std::optional<std::uint64_t> start;
    for (std::uint64_t at = 0; at < ground.length; at += geometry_.block_size) {
        const std::uint64_t length = std::min<std::uint64_t>(kHead, ground.length - at);
        if (left_ < length) return std::nullopt;
        left_ -= length;
        const auto head = bytes_at(*volume_, ground.offset + at, static_cast<std::size_t>(length));
        if (!head || options_.head_for_name(name, ByteView(*head)) != Agreement::agrees) continue;
        if (start) return std::nullopt;
        start = ground.offset + at;
    }
    return start;
}

// How many times content ends there before a block of nothing but zeros, or the end of the ground; at most `most`.
std::size_t Placing::ends_on(const Extent& ground, std::size_t most) const {
    std::size_t ends = 0;
    for (std::uint64_t at = 0; at < ground.length && ends < most;) {
        const std::uint64_t length = first_end({ground.offset + at, ground.length - at});
        const std::uint64_t blocks = divide_up(length, geometry_.block_size);
        const auto last = length > 0 ? bytes_at(*volume_, ground.offset + at + length - 1, 1) : std::nullopt;
        if (!last || last->front() == std::byte{0}) break;
        ++ends;
        at += blocks * geometry_.block_size;
    }
    return ends;
}

// Behind the last byte of the first block that is filled up with zeros; 0: none is, what begins here goes on elsewhere.
std::uint64_t Placing::first_end(const Extent& ground) const {
    const std::uint64_t block = geometry_.block_size;
    for (std::uint64_t at = 0; at < ground.length; at += block) {
        const auto bytes = bytes_at(*volume_, ground.offset + at, static_cast<std::size_t>(block));
        if (!bytes || left_ < block) return 0;
        left_ -= block;
        const auto last = std::find_if(bytes->rbegin(), bytes->rend(), [](std::byte b) { return b != std::byte{0}; });
        if (last != bytes->rbegin()) return at + block - static_cast<std::uint64_t>(last - bytes->rbegin());
    }
    return 0;
}

}  // namespace dredger::hfsplus

#include "filesystems/fat/table.h"

#include <algorithm>
#include <fmt/format.h>

#include "media/cached.h"

namespace dredger::fat {
namespace {

constexpr std::uint32_t kChunk = 1 << 18;  // clusters whose entries are read at once; even, so that FAT12 stays whole

std::uint64_t bits_per_entry(Width width) {
    switch (width) {
        case Width::fat12: return 12;
        case Width::fat16: return 16;
        case Width::fat32: break;
    }
    return 32;
}

// The value of the entry that is `index` entries behind the start of `bytes`; `index` counts from an even cluster.
std::uint32_t value_at(Width width, ByteView bytes, std::size_t index) {
    switch (width) {
        case Width::fat12: {
            const std::uint32_t pair = bytes.u16le(index + index / 2).value_or(0);
            return index % 2 == 0 ? pair & 0x0FFF : pair >> 4;
        }
        case Width::fat16: return bytes.u16le(index * 2).value_or(0);
        case Width::fat32: break;
    }
    return bytes.u32le(index * 4).value_or(0) & 0x0FFFFFFF;
}

Entry meaning(const Geometry& geometry, std::uint32_t value) {
    const std::uint32_t bad = geometry.width == Width::fat12   ? 0xFF7
                              : geometry.width == Width::fat16 ? 0xFFF7
                                                               : 0x0FFFFFF7;
    if (value == 0) return {Link::free, 0};
    if (value == bad) return {Link::bad, 0};
    if (value > bad) return {Link::end, 0};
    if (geometry.holds(value)) return {Link::next, value};
    return {Link::invalid, 0};
}

struct CopyState {
    SpaceMap space;
    std::uint64_t invalid = 0;  // entries that no FAT has
};

}  // namespace

Result<Table> Table::read(const MediumPtr& volume, const Geometry& geometry) {
    Table table(std::make_shared<Cached>(volume), geometry);
    const std::uint64_t bits = bits_per_entry(geometry.width);
    const unsigned copies = std::min(geometry.fat_count, 2U);
    const unsigned first_copy = geometry.mirrored ? 0 : geometry.active_fat;
    std::vector<CopyState> states(geometry.mirrored ? copies : 1);
    for (CopyState& state : states)
        state.space = SpaceMap(geometry.data_offset, geometry.cluster_size, geometry.cluster_count);

    std::uint64_t differing = 0;
    std::vector<std::vector<std::byte>> chunks(states.size());
    const std::uint64_t clusters = std::uint64_t{geometry.cluster_count} + 2;
    for (std::uint64_t at = 0; at < clusters; at += kChunk) {
        const std::uint64_t count = std::min<std::uint64_t>(kChunk, clusters - at);
        std::vector<Extent> bad;
        for (unsigned copy = 0; copy < states.size(); ++copy) {
            chunks[copy].resize(static_cast<std::size_t>(divide_up(count * bits, 8)));
            bad.clear();
            const std::uint64_t from = geometry.fat_offset + (first_copy + copy) * geometry.fat_size + at * bits / 8;
            DREDGER_CHECK(volume->read(from, chunks[copy], &bad));
            for (const Extent& lost : bad) {
                states[copy].invalid += lost.length * 8 / bits;
                table.warnings_.push_back(
                    fmt::format("{} bytes of FAT {} can't be read", lost.length, first_copy + copy + 1));
            }
            const ByteView bytes(chunks[copy]);
            for (std::size_t i = 0; i < count; ++i) {
                if (at + i < 2) continue;
                const Entry entry = meaning(geometry, value_at(geometry.width, bytes, i));
                if (entry.link != Link::free) states[copy].space.take(at + i - 2);
                if (entry.link == Link::invalid) ++states[copy].invalid;
            }
        }
        if (chunks.size() > 1 && chunks[0] != chunks[1]) {
            const ByteView a(chunks[0]);
            const ByteView b(chunks[1]);
            for (std::size_t i = 0; i < count; ++i)
                if (at + i >= 2 && value_at(geometry.width, a, i) != value_at(geometry.width, b, i)) ++differing;
        }
    }

    table.trusted_ = first_copy;
    if (states.size() > 1 && states[1].invalid < states[0].invalid) {
        table.trusted_ = 1;
        table.warnings_.push_back(
            fmt::format("the first FAT has {} damaged entries; the second is used", states[0].invalid));
    }
    if (differing > 0) {
        table.copies_differ_ = true;
        table.warnings_.push_back(fmt::format("the two FATs differ in {} entries", differing));
    }
    table.space_ = std::move(states[states.size() > 1 ? table.trusted_ : 0].space);
    return table;
}

Entry Table::entry_in(unsigned copy, std::uint32_t cluster) const {
    // Two entries of FAT12 share three bytes; the pair starts at an even cluster.
    const std::uint64_t bits = bits_per_entry(geometry_.width);
    const std::uint32_t even = cluster & ~1U;
    std::byte bytes[8] = {};
    const std::size_t length = bits == 12 ? 3 : static_cast<std::size_t>(bits / 4);
    const std::uint64_t from = geometry_.fat_offset + copy * geometry_.fat_size + std::uint64_t{even} * bits / 8;
    if (!volume_->read(from, std::span(bytes).first(length))) return {};
    return meaning(geometry_, value_at(geometry_.width, ByteView(bytes), cluster - even));
}

Table Table::of_former(const Geometry& former, const SpaceMap& today) {
    Table table(nullptr, former);
    table.is_gone_ = true;
    table.space_ = SpaceMap(former.data_offset, former.cluster_size, former.cluster_count);
    for (std::uint32_t cluster = 2; cluster <= former.last_cluster(); ++cluster) {
        const Extent place{former.offset_of(cluster), former.cluster_size};
        if (today.taken_bytes_in(place) > 0) table.space_.take(cluster - 2);
    }
    return table;
}

Entry Table::entry(std::uint32_t cluster) const {
    if (is_gone_) return {Link::free, 0};
    const Entry entry = entry_in(trusted_, cluster);
    if (entry.link != Link::invalid || !copies_differ_) return entry;
    return entry_in(1 - trusted_, cluster);
}

std::vector<std::uint32_t> Table::stale_chain(std::uint32_t first, std::uint64_t most) const {
    std::vector<std::uint32_t> chain;
    if (!copies_differ_) return chain;
    for (std::uint32_t cluster = first; chain.size() < most;) {
        if (taken(cluster)) return {};
        const Entry entry = entry_in(1 - trusted_, cluster);
        if (entry.link != Link::next && entry.link != Link::end) return {};
        chain.push_back(cluster);
        if (entry.link == Link::end) return chain;
        cluster = entry.next;
    }
    return {};
}

}  // namespace dredger::fat

#include "filesystems/ntfs/runlist.h"

#include <algorithm>

namespace dredger::ntfs {
namespace {

constexpr std::size_t kMaxRuns = 1 << 20;

// A little-endian number of `length` bytes, 1 .. 8; the highest bit is the sign where `is_signed`.
std::optional<std::int64_t> number_at(ByteView bytes, std::size_t offset, std::size_t length, bool is_signed) {
    const auto part = bytes.slice(offset, length);
    if (!part || length == 0 || length > 8) return std::nullopt;
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < length; ++i) value |= std::to_integer<std::uint64_t>(part->bytes()[i]) << (8 * i);
    if (is_signed && length < 8 && (value >> (8 * length - 1) & 1U) != 0) value |= ~std::uint64_t{0} << (8 * length);
    return static_cast<std::int64_t>(value);
}

void add(std::vector<Extent>& extents, const Extent& extent) {
    if (extent.length == 0) return;
    if (!extents.empty()) {
        Extent& last = extents.back();
        const bool continues =
            extent.is_stored() ? last.is_stored() && last.end() == extent.offset : last.offset == extent.offset;
        if (continues) {
            last.length += extent.length;
            return;
        }
    }
    extents.push_back(extent);
}

}  // namespace

void Runlist::append(const Runlist& later) {
    whole = whole && later.whole;
    if (later.runs.empty()) return;
    if (later.runs.front().vcn < end()) {
        whole = false;
        return;
    }
    runs.insert(runs.end(), later.runs.begin(), later.runs.end());
}

Runlist decode_mapping_pairs(ByteView pairs, std::uint64_t first_vcn, const Geometry& geometry) {
    Runlist list;
    std::uint64_t vcn = first_vcn;
    std::int64_t lcn = 0;
    for (std::size_t at = 0;;) {
        const auto header = pairs.u8(at);
        if (header && *header == 0) return list;
        const std::size_t length_bytes = header.value_or(0) & 0x0FU;
        const std::size_t offset_bytes = header.value_or(0) >> 4U;
        const auto count = number_at(pairs, at + 1, length_bytes, true);
        const auto end = count && *count > 0 ? checked_add(vcn, static_cast<std::uint64_t>(*count)) : std::nullopt;
        if (!header || !end || *end > UINT64_MAX / geometry.cluster_size || list.runs.size() >= kMaxRuns) break;
        if (offset_bytes == 0) {
            list.runs.push_back({vcn, static_cast<std::uint64_t>(*count), Run::kSparse});
        } else {
            const auto step = number_at(pairs, at + 1 + length_bytes, offset_bytes, true);
            if (!step || __builtin_add_overflow(lcn, *step, &lcn)) break;
            const auto first = static_cast<std::uint64_t>(lcn);
            const bool on_volume =
                lcn >= 0 && lies_within(first, static_cast<std::uint64_t>(*count), geometry.cluster_count);
            if (on_volume)
                list.runs.push_back({vcn, static_cast<std::uint64_t>(*count), first});
            else
                list.whole = false;
        }
        vcn = *end;
        at += 1 + length_bytes + offset_bytes;
    }
    list.whole = false;
    return list;
}

std::vector<Extent> extents_of(const Runlist& list, std::uint64_t size, std::uint64_t valid, const Geometry& geometry) {
    std::vector<Extent> extents;
    std::uint64_t at = 0;
    for (const Run& run : list.runs) {
        const std::uint64_t from = run.vcn * geometry.cluster_size;
        if (from >= size) break;
        if (from > at) add(extents, Extent::unknown(from - at));
        const std::uint64_t to = std::min(size, run.end() * geometry.cluster_size);
        const std::uint64_t stored = run.is_sparse() || valid <= from ? from : std::min(valid, to);
        add(extents, {run.lcn * geometry.cluster_size, stored - from});
        add(extents, Extent::zeros(to - stored));
        at = to;
    }
    return extents;
}

}  // namespace dredger::ntfs

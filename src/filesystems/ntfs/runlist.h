// Mapping pairs: which clusters hold which part of an attribute.
#pragma once

#include <optional>
#include <vector>

#include "base/bytes.h"
#include "filesystems/ntfs/geometry.h"
#include "media/medium.h"

namespace dredger::ntfs {

struct Run {
    static constexpr std::uint64_t kSparse = ~std::uint64_t{0};

    std::uint64_t vcn = 0;    // cluster of the attribute
    std::uint64_t count = 0;  // clusters; never 0
    std::uint64_t lcn = 0;    // cluster of the volume, or kSparse

    bool is_sparse() const { return lcn == kSparse; }
    std::uint64_t end() const { return vcn + count; }
};

struct Runlist {
    std::vector<Run> runs;  // by vcn, without overlaps
    bool whole = true;      // false: it broke off, or named clusters that the volume has not (these are left out)

    // Clusters up to the end of the last run.
    std::uint64_t end() const { return runs.empty() ? 0 : runs.back().end(); }
    // Puts `later`, which begins where this ends or behind it, behind it; what lies before the end is refused.
    void append(const Runlist& later);
};

// The pairs that begin with `pairs`, for clusters from `first_vcn` on.
Runlist decode_mapping_pairs(ByteView pairs, std::uint64_t first_vcn, const Geometry& geometry);

// The first `size` bytes of what lies in `runs`, as extents of the volume. Sparse runs and what lies behind
// `valid` bytes are zeros, what no run tells of is a hole. Neighbours are joined.
std::vector<Extent> extents_of(const Runlist& runs, std::uint64_t size, std::uint64_t valid, const Geometry& geometry);

}  // namespace dredger::ntfs

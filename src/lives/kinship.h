// How much two contents have in common, wherever it stands in them: by the hashes of pieces that are cut where the
// bytes themselves say, of what archives and office documents hold unpacked.
#pragma once

#include <cstdint>
#include <vector>

#include "media/medium.h"

namespace dredger::lives {

// Of at most 32 MiB of content; the smallest hashes stand for all of them.
struct Sketch {
    std::vector<std::uint64_t> pieces;  // in order, each once
    std::uint64_t size = 0;             // bytes of the content
    bool empty() const { return pieces.empty(); }
};

Sketch sketch_of(const Medium& content);

// For each of `others` the share of `one` that stands in it, 0 to 1. What stands in many of the others says less.
std::vector<double> kinship(const Sketch& one, const std::vector<Sketch>& others);

}  // namespace dredger::lives

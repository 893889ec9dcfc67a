// Puts together files that lie in pieces: content that stops making sense goes on somewhere behind.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "formats/format.h"

namespace dredger {

struct JoinLimits {
    std::uint64_t cluster = 4096;          // bytes; files are split at multiples of it
    std::uint64_t most_gap = 128;          // clusters
    std::uint64_t most_split = 64;         // clusters before the trouble at which it may be split
    std::uint64_t most_told_split = 4096;  // the same where the format tells how much is foreign
    std::size_t most_pieces = 6;
    std::uint64_t most_read = 256ULL << 20;  // bytes that all tries for one file may read
    Budget::Stop stop = {};
};

struct Joined {
    Measured measured;
    std::vector<Extent> pieces;  // on the ground, in content order; they reach to `measured.length`
};

// `start`: where content of `format` begins on `ground` that is broken as `found` says. Nothing where no other place
// for the rest makes it whole, or clearly better.
std::optional<Joined> join(const Medium& ground, std::uint64_t start, const Format& format, const Measured& found,
                           const JoinLimits& limits);

}  // namespace dredger

// What became of a candidate that was to be restored.
#pragma once

#include <cstddef>
#include <string_view>

namespace dredger {

enum class Outcome {
    whole,     // all bytes were read, and the prospect is sound
    doubtful,  // all bytes were read, but the prospect says that they may not all be right
    partial,   // some bytes could not be had; zeros stand for them
    skipped,   // its place was taken, or it is not whole and only whole ones are wanted
    already,   // an earlier run restored it
    failed,    // nothing of it could be had or written
};

inline constexpr std::string_view kOutcomeWords[] = {"whole", "doubtful", "partial", "skipped", "already", "failed"};
inline std::string_view word_for(Outcome outcome) { return kOutcomeWords[static_cast<std::size_t>(outcome)]; }

}  // namespace dredger

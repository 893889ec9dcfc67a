// The prospect of a candidate: which share of its bytes will come back right, in a number, in a word, and why.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "ranking/evidence.h"

namespace dredger {

enum class Band { sound, patchy, faint, gone };
enum class Check { verified, plausible, damaged, unknown };

inline constexpr std::string_view kBandWords[] = {"sound", "patchy", "faint", "gone"};
inline constexpr std::string_view kCheckWords[] = {"verified", "plausible", "damaged", "unknown"};
inline std::string_view word_for(Band band) { return kBandWords[static_cast<std::size_t>(band)]; }
inline std::string_view word_for(Check check) { return kCheckWords[static_cast<std::size_t>(check)]; }

struct Prospect {
    int value = 0;  // 0 .. 100
    Band band = Band::gone;
    Check check = Check::unknown;
    std::vector<std::string> reasons;  // sentences for the technician
};

// The path and the time of writing of a candidate, for the reasons; empty where it is not known.
using Namer = std::function<std::string(std::int64_t candidate)>;

Prospect judge(const Evidence& evidence, const Namer& name_of);

}  // namespace dredger

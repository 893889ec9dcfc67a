// The colours in which terminal, pages and figures show how much of a find is left.
#pragma once

#include <array>
#include <cstdint>

namespace dredger::palette {

struct Colour {
    std::uint32_t rgb;    // 0x00RRGGBB
    unsigned in_256 = 0;  // the nearest of a terminal's 256 (xterm's numbers)
};

inline constexpr Colour kSound{0x2E7D5B, 35}, kPatchy{0xC08A1E, 172}, kFaint{0xB5532A, 166}, kGone{0x9A9489, 245};
inline constexpr std::array<Colour, 4> kBands = {kSound, kPatchy, kFaint, kGone};  // by Band
inline constexpr Colour kLive{0x9DB7C4, 110}, kUnreadable{0x8E2323, 124};

}  // namespace dredger::palette

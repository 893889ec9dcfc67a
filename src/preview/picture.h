// A picture in memory, small enough to look at.
#pragma once

#include <cstdint>
#include <vector>

namespace dredger::preview {

struct Picture {
    int width = 0, height = 0;          // pixels
    std::vector<std::uint32_t> pixels;  // 0x00RRGGBB, row by row from the top
    int good_rows = 0;                  // from the top; what lies below was lost
    bool empty() const { return pixels.empty(); }
};

// Turned and mirrored as Exif's orientation (1 to 8) asks for.
Picture oriented(const Picture& picture, unsigned orientation);

// 64 bits that are alike for pictures that look alike: whether each of 8 by 8 spots is brighter than the one on its
// right.
std::uint64_t likeness_of(const Picture& picture);

}  // namespace dredger::preview

#include "preview/picture.h"

#include <algorithm>
#include <utility>

namespace dredger::preview {

namespace {

constexpr std::uint32_t kLost = 0xE9E4DA;  // paper

}  // namespace

Picture oriented(const Picture& picture, unsigned orientation) {
    if (orientation < 2 || orientation > 8 || picture.empty()) return picture;
    const bool swapped = orientation >= 5;
    const bool from_right = orientation == 2 || orientation == 3 || orientation == 7 || orientation == 8;
    const bool from_bottom = orientation == 3 || orientation == 4 || orientation == 6 || orientation == 7;
    Picture turned;
    turned.width = swapped ? picture.height : picture.width;
    turned.height = swapped ? picture.width : picture.height;
    turned.pixels.resize(picture.pixels.size());
    for (int y = 0; y < turned.height; ++y)
        for (int x = 0; x < turned.width; ++x) {
            int from_x = swapped ? y : x;
            int from_y = swapped ? x : y;
            if (from_right) from_x = picture.width - 1 - from_x;
            if (from_bottom) from_y = picture.height - 1 - from_y;
            turned.pixels[static_cast<std::size_t>(y) * static_cast<std::size_t>(turned.width) +
                          static_cast<std::size_t>(x)] =
                picture.pixels[static_cast<std::size_t>(from_y) * static_cast<std::size_t>(picture.width) +
                               static_cast<std::size_t>(from_x)];
        }
    // What was lost lies below only as long as up stays up.
    turned.good_rows = orientation == 2 ? picture.good_rows : turned.height;
    if (orientation != 2)
        for (int y = picture.good_rows; y < picture.height; ++y)
            for (int x = 0; x < picture.width; ++x) {
                int to_x = from_right ? picture.width - 1 - x : x;
                int to_y = from_bottom ? picture.height - 1 - y : y;
                if (swapped) std::swap(to_x, to_y);
                turned.pixels[static_cast<std::size_t>(to_y) * static_cast<std::size_t>(turned.width) +
                              static_cast<std::size_t>(to_x)] = kLost;
            }
    return turned;
}

std::uint64_t likeness_of(const Picture& picture) {
    constexpr int kSpots = 8;
    if (picture.width < kSpots + 1 || picture.height < kSpots) return 0;
    const auto brightness = [&](int column, int row) {
        const int left = column * picture.width / (kSpots + 1), right = (column + 1) * picture.width / (kSpots + 1);
        const int top = row * picture.height / kSpots, bottom = (row + 1) * picture.height / kSpots;
        std::uint64_t sum = 0;
        for (int y = top; y < bottom; ++y)
            for (int x = left; x < right; ++x) {
                const std::uint32_t p =
                    picture.pixels[static_cast<std::size_t>(y) * static_cast<std::size_t>(picture.width) +
                                   static_cast<std::size_t>(x)];
                sum += 2 * (p >> 16 & 0xFFU) + 5 * (p >> 8 & 0xFFU) + (p & 0xFFU);
            }
        return sum / static_cast<std::uint64_t>(std::max(1, (right - left) * (bottom - top)));
    };
    std::uint64_t bits = 0;
    for (int row = 0; row < kSpots; ++row)
        for (int column = 0; column < kSpots; ++column)
            bits = bits << 1 | (brightness(column, row) > brightness(column + 1, row) ? 1U : 0U);
    return bits;
}

}  // namespace dredger::preview

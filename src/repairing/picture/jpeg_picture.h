// A picture as JPEG keeps it: the quantised coefficients of its blocks, which of them are known, and what the borders
// of blocks look like.
#pragma once

#include <array>
#include <span>
#include <vector>

#include "repairing/picture/jpeg_header.h"

namespace dredger::repairing {

using JpegBlock = std::array<std::int16_t, 64>;  // in natural order

class JpegPicture {
  public:
    explicit JpegPicture(const JpegHeader& header);

    struct Component {
        unsigned across = 1, down = 1;                   // blocks in an MCU
        std::size_t blocks_across = 0, blocks_down = 0;  // in whole MCUs
        std::array<float, 64> step{};                    // quantisation, in natural order
        std::vector<JpegBlock> blocks;
    };
    std::size_t mcus_across() const { return mcus_across_; }
    std::size_t mcus() const { return is_known_.size(); }
    std::span<const Component> components() const { return components_; }
    // Blocks of an MCU, all components.
    std::size_t blocks_in_mcu() const { return blocks_in_mcu_; }

    bool is_known(std::size_t mcu) const { return is_known_[mcu]; }
    // `blocks`: blocks_in_mcu() of them, in the order of the scan.
    void set(std::size_t mcu, std::span<const JpegBlock> blocks);
    void forget(std::size_t mcu) { is_known_[mcu] = false; }
    // The mean of its pixels, less 128; levels.
    float mean_of(std::size_t mcu, std::size_t component) const;
    void add_to_dc(std::size_t mcu, std::size_t component, int steps);

    // How far a border of an MCU is from that of the known one above it, or left of it, in the mean of its pixels
    // (levels); 0 where there is none. The signed one tells what all of its pixels are off by.
    struct Fit {
        float apart = 0;   // mean of the differences without their sign
        float offset = 0;  // mean of the differences: this less that
        std::size_t pixels = 0;
    };
    Fit fit_above(std::size_t mcu, std::size_t component) const;
    Fit fit_left(std::size_t mcu, std::size_t component) const;
    // What the pixels along the upper border differ by from those of the nearest known MCU above, each side carried on
    // half a pixel to where they meet where that is a neighbour.
    struct Step {
        float by;     // levels
        float slope;  // how much the picture changes there from pixel to pixel; levels
    };
    std::vector<Step> steps_from_above(std::size_t mcu, std::size_t component) const;

    // Rows of pixels of which every MCU is known, of `height`.
    std::size_t known_rows(unsigned height) const;

  private:
    enum class Side { top, second, next_to_last, bottom, left, right };
    using Edge = std::array<float, 8>;
    Edge edge(const Component& component, std::size_t column, std::size_t row, Side side) const;

    std::vector<Component> components_;
    std::size_t mcus_across_, blocks_in_mcu_ = 0;
    unsigned mcu_height_;  // pixels
    std::vector<bool> is_known_;
};

// Where each coefficient of the order in which they are packed stands in a block (T.81, figure A.6).
extern const std::array<std::uint8_t, 64> kZigzag;

}  // namespace dredger::repairing

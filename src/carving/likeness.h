// How alike two pieces of content are by their bytes alone: for content that nothing but a length holds together.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <span>

namespace dredger {

// Learnt from a piece that is sure: how often each byte is, and how it differs from the one a sample or a point before
// it.
class Likeness {
  public:
    explicit Likeness(std::span<const std::byte> sure);

    // What a byte of these costs on the average, in bits, for who expects them to be like those learnt. 0: nothing was
    // learnt, or asked.
    double bits_of(std::span<const std::byte> bytes) const;

  private:
    using Costs = std::array<double, 256>;

    std::size_t stride_ = 0;  // bytes from one sample or point to the next
    Costs of_byte_{}, of_step_{};
};

}  // namespace dredger

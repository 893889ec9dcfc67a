#include "carving/likeness.h"

#include <algorithm>
#include <cmath>

namespace dredger {
namespace {

using Counts = std::array<std::uint64_t, 256>;

std::size_t step_at(std::span<const std::byte> bytes, std::size_t at, std::size_t stride) {
    return (std::to_integer<unsigned>(bytes[at]) - std::to_integer<unsigned>(bytes[at - stride])) & 0xFFU;
}

Counts steps_of(std::span<const std::byte> bytes, std::size_t stride) {
    Counts counts{};
    for (std::size_t at = stride; at < bytes.size(); ++at) ++counts[step_at(bytes, at, stride)];
    return counts;
}

// What each value costs in bits, none of which is impossible.
std::array<double, 256> costs_of(const Counts& counts) {
    double all = 0;
    for (const std::uint64_t count : counts) all += static_cast<double>(count) + 0.5;
    std::array<double, 256> costs{};
    for (std::size_t value = 0; value < costs.size(); ++value)
        costs[value] = std::log2(all / (static_cast<double>(counts[value]) + 0.5));
    return costs;
}

double entropy_of(const Counts& counts) {
    const auto costs = costs_of(counts);
    double bits = 0, all = 0;
    for (std::size_t value = 0; value < counts.size(); ++value) {
        bits += static_cast<double>(counts[value]) * costs[value];
        all += static_cast<double>(counts[value]);
    }
    return all == 0 ? 0 : bits / all;
}

}  // namespace

Likeness::Likeness(std::span<const std::byte> sure) {
    constexpr std::size_t kMostStride = 8, kLeast = 64;
    if (sure.size() < kLeast) return;
    double least = 0;
    for (std::size_t stride = 1; stride <= kMostStride; ++stride) {
        const Counts steps = steps_of(sure, stride);
        const double bits = entropy_of(steps);
        if (stride_ != 0 && bits >= least) continue;
        least = bits;
        stride_ = stride;
        of_step_ = costs_of(steps);
    }
    Counts counts{};
    for (const std::byte b : sure) ++counts[std::to_integer<std::size_t>(b)];
    of_byte_ = costs_of(counts);
}

double Likeness::bits_of(std::span<const std::byte> bytes) const {
    if (stride_ == 0 || bytes.size() <= stride_) return 0;
    double bits = 0;
    for (std::size_t at = stride_; at < bytes.size(); ++at)
        bits += of_byte_[std::to_integer<std::size_t>(bytes[at])] + of_step_[step_at(bytes, at, stride_)];
    return bits / (2 * static_cast<double>(bytes.size() - stride_));
}

}  // namespace dredger

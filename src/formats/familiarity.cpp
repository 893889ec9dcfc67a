#include "formats/familiarity.h"

#include <cmath>

namespace dredger::formats {
namespace {

// How much likelier it is that `fresh` of `all` happen at their own rate than at `rate`, in nats.
double gain(double fresh, double all, double rate) {
    const auto part = [](double count, double of, double at) {
        return count == 0 ? 0 : count * std::log(count / of / at);
    };
    return part(fresh, all, rate) + part(all - fresh, all, 1 - rate);
}

}  // namespace

void Familiarity::add(std::span<const std::byte> bytes) {
    constexpr std::uint64_t kMost = 8 << 10;  // of a stretch
    bytes = bytes.first(std::min<std::size_t>(bytes.size(), kMost - std::min(kMost, all_)));
    for (const std::byte byte : bytes) {
        last_ = (last_ << 8 | std::to_integer<std::uint32_t>(byte)) & 0xFFFFFF;
        const std::uint32_t sum = last_ * 0x9E3779B1U >> (32 - kBits);
        std::uint64_t& word = known_[sum / 64];
        const std::uint64_t bit = std::uint64_t{1} << sum % 64;
        fresh_ += (word & bit) == 0 ? 1 : 0;
        word |= bit;
    }
    all_ += bytes.size();
}

void Familiarity::mark(std::uint64_t at) {
    constexpr std::size_t kMost = 1024;
    if (all_ == 0) return;
    if (stretches_.size() == kMost) stretches_.erase(stretches_.begin(), stretches_.begin() + kMost / 2);
    stretches_.push_back({at, all_, fresh_});
    all_ = fresh_ = 0;
}

double Familiarity::change_before(std::size_t n) const {
    constexpr std::size_t kBefore = 8, kBehind = 16;  // stretches
    constexpr double kLeastRise = 1.5, kLeastMore = 0.02;
    const auto sum = [&](std::size_t from, std::size_t to) {
        std::pair<double, double> both;
        for (std::size_t i = from; i < to; ++i) {
            both.first += static_cast<double>(stretches_[i].all);
            both.second += static_cast<double>(stretches_[i].fresh);
        }
        return both;
    };
    const auto [all, fresh] = sum(n - std::min(n, kBefore), n);
    const auto [all_after, fresh_after] = sum(n, std::min(stretches_.size(), n + kBehind));
    if (fresh_after / all_after < kLeastRise * fresh / all + kLeastMore) return 0;
    const double rate = (fresh + fresh_after) / (all + all_after);
    return gain(fresh, all, rate) + gain(fresh_after, all_after, rate);
}

std::optional<std::uint64_t> Familiarity::change(std::uint64_t from, std::uint64_t to) const {
    constexpr std::size_t kLeast = 4;
    double best = 50;
    std::optional<std::uint64_t> found;
    for (std::size_t n = kLeast; n < stretches_.size() && stretches_[n - 1].end <= to; ++n) {
        if (stretches_[n - 1].end < from) continue;
        const double gained = change_before(n);
        if (gained <= best) continue;
        best = gained;
        found = stretches_[n - 1].end;
    }
    return found;
}

}  // namespace dredger::formats

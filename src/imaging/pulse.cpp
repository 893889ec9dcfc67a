#include "imaging/pulse.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/amounts.h"

namespace dredger {
namespace {

constexpr std::size_t kLately = 128;         // first asks
constexpr std::uint64_t kLeastToJudge = 64;  // first asks before that
constexpr double kNoticeable = 0.05;         // share of asks in trouble below which nothing is said to grow

double share(std::uint64_t part, std::uint64_t whole) {
    return whole == 0 ? 0 : static_cast<double>(part) / static_cast<double>(whole);
}

std::string percent(double share) { return share > 0 && share < 0.01 ? "<1 %" : fmt::format("{:.0f} %", share * 100); }

}  // namespace

void Pulse::answered(bool came, std::chrono::milliseconds took, bool first) {
    const bool is_slow = took >= kPrompt;
    ++asks_;
    slow_ += is_slow ? 1 : 0;
    slowest_ = std::max(slowest_, took);
    if (!came) {
        ++refused_;
        in_refusals_ += took;
    }
    if (!first) return;
    const bool trouble = !came || is_slow;
    ++first_asks_;
    first_trouble_ += trouble ? 1 : 0;
    if (lately_.size() < kLately) {
        lately_.push_back(trouble);
    } else {
        lately_[next_] = trouble;
        next_ = (next_ + 1) % kLately;
    }
}

std::chrono::milliseconds Pulse::price_of_refusal() const {
    return refused_ == 0 ? std::chrono::milliseconds(0) : in_refusals_ / static_cast<std::int64_t>(refused_);
}

Pulse::Trend Pulse::trend(const std::vector<AreaMap::Run>& earlier) const {
    const auto in_lately = static_cast<std::uint64_t>(std::count(lately_.begin(), lately_.end(), true));
    std::uint64_t asks_before = first_asks_ - lately_.size(), trouble_before = first_trouble_ - in_lately;
    for (const AreaMap::Run& run : earlier) {
        asks_before += run.asks;
        trouble_before += std::min(run.asks, run.refused + run.slow);
    }
    if (lately_.size() < kLately || asks_before < kLeastToJudge) return Trend::steady;
    const double now = share(in_lately, lately_.size()), before = share(trouble_before, asks_before);
    if (now < kNoticeable || now < 3 * before) return Trend::steady;
    return now > 0.5 ? Trend::much_worse : Trend::worse;
}

std::vector<std::string> Pulse::advice(const std::vector<AreaMap::Run>& earlier, std::uint64_t refused_bytes) const {
    std::vector<std::string> sentences;
    if (refused_ == 0 && slow_ == 0) {
        sentences.push_back(fmt::format("It answered {} asks, all promptly.", count_text(asks_)));
    } else {
        std::string counted = fmt::format("It refused {} of {} asks ({})", count_text(refused_), count_text(asks_),
                                          percent(share(refused_, asks_)));
        if (slow_ > 0)
            counted += fmt::format(" and took its time over {}, {:.1f} s at the longest", count_text(slow_),
                                   static_cast<double>(slowest_.count()) / 1000);
        sentences.push_back(counted + ".");
    }
    switch (trend(earlier)) {
        case Trend::much_worse:
            sentences.emplace_back(
                "It is failing while it is read: more than half of what it was asked for lately did not come well. If "
                "what is missing is worth a laboratory, switch it off now and ask it for nothing more.");
            break;
        case Trend::worse:
            sentences.emplace_back(
                "It is getting worse: refusals and slow answers have grown at least threefold. Stop where what is safe "
                "is enough, or let it cool down before the next run.");
            break;
        case Trend::steady:
            if (refused_bytes > 0 && refused_ > 0)
                sentences.emplace_back("Its refusals keep to their places and do not grow: it bears being asked on.");
            break;
    }
    return sentences;
}

}  // namespace dredger

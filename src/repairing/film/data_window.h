// A window on content that slides along with who reads it from the start to the end.
#pragma once

#include <algorithm>
#include <span>
#include <vector>

#include "media/medium.h"

namespace dredger::repairing {

class DataWindow {
  public:
    static constexpr std::size_t kReach = 16
                                          << 20;  // bytes that can be seen at once: more than any frame of a film has

    DataWindow(const Medium& content, std::uint64_t end) : content_(content), end_(std::min(end, content.size())) {}

    std::uint64_t end() const { return end_; }
    // What stands from `at` on, at most `most` bytes; what can't be read comes as zeros. Valid until the next call.
    std::span<const std::uint8_t> from(std::uint64_t at, std::size_t most = kReach) {
        if (at >= end_) return {};
        const std::uint64_t wanted = std::min<std::uint64_t>({most, kReach, end_ - at});
        if (at < at_ || at + wanted > at_ + bytes_.size()) load(at, static_cast<std::size_t>(wanted));
        return std::span(bytes_).subspan(static_cast<std::size_t>(at - at_), static_cast<std::size_t>(wanted));
    }

  private:
    void load(std::uint64_t at, std::size_t wanted) {
        // A good deal at once, and some of what lies behind, as who reads goes on there.
        const std::size_t more = std::max<std::size_t>(wanted, 1 << 20) * 2;
        bytes_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(more, end_ - at)));
        std::vector<Extent> bad;
        if (!content_.read(at, std::as_writable_bytes(std::span(bytes_)), &bad))
            std::fill(bytes_.begin(), bytes_.end(), 0);
        at_ = at;
    }

    const Medium& content_;
    std::uint64_t end_;
    std::uint64_t at_ = 0;
    std::vector<std::uint8_t> bytes_;
};

}  // namespace dredger::repairing

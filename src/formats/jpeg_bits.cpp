#include "formats/jpeg_bits.h"

#include <algorithm>

namespace dredger::formats {

// Keeps the bytes that were not used yet, and those whose bits still are ahead, and takes the next ones behind them.
bool JpegBits::load(Ahead& ahead) {
    if (met_marker_) return false;
    const auto next = static_cast<std::size_t>(ahead.next - plain_.data());
    const std::size_t used = next - std::min<std::size_t>(next, 8);
    const auto kept = std::lower_bound(stuffed_.begin(), stuffed_.end(), used);
    base_ += used + static_cast<std::size_t>(kept - stuffed_.begin());
    stuffed_.erase(stuffed_.begin(), kept);
    for (std::size_t& place : stuffed_) place -= used;
    std::memmove(plain_.data(), plain_.data() + used, end_ - used);
    end_ -= used;

    while (end_ < kChunk && !met_marker_) {
        auto here = content_.some(at_);
        here = here.first(std::min(here.size(), kChunk - end_));
        const void* ff = here.empty() ? nullptr : std::memchr(here.data(), 0xFF, here.size());
        const std::size_t clean =
            ff == nullptr ? here.size() : static_cast<std::size_t>(static_cast<const std::byte*>(ff) - here.data());
        if (clean > 0) std::memcpy(plain_.data() + end_, here.data(), clean);
        end_ += clean;
        at_ += clean;
        if (ff == nullptr) {
            met_marker_ = here.empty();
            continue;
        }
        const unsigned after = content_.holds(at_ + 1, 1) ? content_.u8(at_ + 1) : 0xD9U;
        if (after == 0) {
            stuffed_.push_back(end_);
            plain_[end_++] = 0xFF;
            at_ += 2;
        } else if (after == 0xFF) {  // filling before a marker
            ++at_;
        } else {
            met_marker_ = true;
        }
    }

    std::size_t readable = end_;
    if (met_marker_) {
        std::memset(plain_.data() + end_, 0, kPadding);
        readable += kPadding;
    }
    ahead.next = plain_.data() + (next - used);
    ahead.last = plain_.data() + (readable < 8 ? 0 : readable - 7);
    return ahead.next < ahead.last;
}

bool JpegBits::at_marker() {
    if (!met_marker_ && left() < 64) load(ahead_);
    return met_marker_ && left() >= 0 && left() < 8;
}

bool JpegBits::restart(unsigned expected) {
    if (!at_marker() || content_.u8(at_ + 1) != 0xD0 + expected) return false;
    at_ += 2;
    base_ = at_;
    end_ = 0;
    stuffed_.clear();
    ahead_ = {};
    ahead_.next = plain_.data();
    met_marker_ = false;
    return true;
}

std::uint64_t JpegBits::place() const {
    const std::size_t index = std::min(next() - std::min<std::size_t>(next(), (ahead_.count + 7) / 8), end_);
    const auto before = std::lower_bound(stuffed_.begin(), stuffed_.end(), index);
    return std::min(base_ + index + static_cast<std::size_t>(before - stuffed_.begin()), at_);
}

}  // namespace dredger::formats

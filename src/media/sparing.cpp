#include "media/sparing.h"

#include <algorithm>
#include <mutex>

#include "media/charted.h"

namespace dredger {
namespace {

constexpr unsigned kDoublings = 8;  // of what is given up, when many reads failed in a row
constexpr unsigned kDoubtful = 4;   // failures after which it is asked whether the medium is there at all

}  // namespace

Sparing::Sparing(MediumPtr whole, const std::vector<Extent>& known, std::uint64_t step)
    : whole_(std::move(whole)), step_(step), presence_(whole_) {
    bad_ = surely_bad_ = Coverage(Coverage(known).within(0, size()));
}

std::vector<Extent> Sparing::bad_areas() const {
    const std::shared_lock guard(lock_);
    return bad_.extents();
}

std::vector<Extent> Sparing::known_in(std::uint64_t offset, std::uint64_t length) const {
    const std::shared_lock guard(lock_);
    return bad_.within(offset, length);
}

void Sparing::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    std::vector<Extent> list = known_in(offset, length);
    whole_->add_known_bad(offset, length, list);
    const auto all = Coverage(list).extents();
    bad.insert(bad.end(), all.begin(), all.end());
}

void Sparing::expect(std::uint64_t offset, std::uint64_t length) const {
    // What the kernel reads ahead would touch the bad areas once more.
    if (known_in(offset, length).empty()) whole_->expect(offset, length);
}

Result<void> Sparing::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    return read_around(known_in(offset, into.size()), offset, into, bad,
                       [&](std::uint64_t at, std::span<std::byte> part) -> Result<void> {
                           if (!gone_) read_gently(at, part, bad);
                           const bool is_doubtful = failures_ > 0 && failures_ % kDoubtful == 0;
                           return gone_ || is_doubtful ? check_presence() : Result<void>();
                       });
}

void Sparing::read_gently(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (whole_->try_read(offset, into)) {
        presence_.answered_at(offset);
        return;
    }
    // Some of it is known to be bad without having to ask: an image with a map.
    std::vector<Extent> charted;
    whole_->add_known_bad(offset, into.size(), charted);
    if (!charted.empty()) {
        (void)whole_->read(offset, into, &bad);
        return;
    }
    const std::uint64_t end = offset + into.size();
    for (std::uint64_t at = offset; at < end;) {
        std::uint64_t step = std::min(end, (at / step_ + 1) * step_) - at;
        auto part = into.subspan(at - offset, step);
        if (!gone_ && whole_->try_read(at, part)) {
            presence_.answered_at(at);
            at += step;
            continue;
        }
        step = pass_over(at, step, end);
        part = into.subspan(at - offset, step);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back({at, step});
        at += step;
    }
}

// How much of what begins with these `step` bytes and reaches to `end` is given up.
std::uint64_t Sparing::pass_over(std::uint64_t at, std::uint64_t step, std::uint64_t end) const {
    const std::unique_lock guard(lock_);
    ++failures_;
    in_a_row_ = at == failed_up_to_ ? in_a_row_ + 1 : 0;
    step = std::min(end - at, std::max(step, step_ << std::min(in_a_row_, kDoublings)));
    if (!gone_) bad_.add({at, step});
    failed_up_to_ = at + step;
    return step;
}

Result<void> Sparing::check_presence() const {
    const std::unique_lock guard(lock_);
    if (gone_) return tl::unexpected<Error>(*why_gone_);
    if (failures_ == 0) return {};
    const auto there = presence_.check();
    if (there) {
        failures_ = 0;
        surely_bad_ = bad_;
    } else {
        why_gone_ = there.error();
        gone_ = true;
        bad_ = surely_bad_;
    }
    return there;
}

}  // namespace dredger

#include "media/sparing.h"

#include <algorithm>
#include <mutex>

#include "media/charted.h"

namespace dredger {
namespace {

constexpr std::uint64_t kFirstStep = 64 << 10;    // bytes that are given up for one failing read
constexpr std::uint64_t kLargestStep = 16 << 20;  // ... when many failed in a row

}  // namespace

Sparing::Sparing(MediumPtr whole, const std::vector<Extent>& known) : whole_(std::move(whole)) {
    bad_ = Coverage(Coverage(known).within(0, size()));
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
                       [&](std::uint64_t at, std::span<std::byte> part) {
                           read_gently(at, part, bad);
                           return Result<void>();
                       });
}

void Sparing::read_gently(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (whole_->try_read(offset, into)) return;
    // Some of it is known to be bad without having to ask: an image with a map.
    std::vector<Extent> charted;
    whole_->add_known_bad(offset, into.size(), charted);
    if (!charted.empty()) {
        (void)whole_->read(offset, into, &bad);
        return;
    }
    const std::uint64_t end = offset + into.size();
    for (std::uint64_t at = offset; at < end;) {
        std::uint64_t step = std::min(end, (at / kFirstStep + 1) * kFirstStep) - at;
        auto part = into.subspan(at - offset, step);
        if (whole_->try_read(at, part)) {
            at += step;
            continue;
        }
        const std::unique_lock guard(lock_);
        in_a_row_ = at == failed_up_to_ ? in_a_row_ + 1 : 0;
        step = std::min(end - at, std::max(step, std::min(kLargestStep, kFirstStep << std::min(in_a_row_, 8U))));
        part = into.subspan(at - offset, step);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back({at, step});
        bad_.add({at, step});
        at += step;
        failed_up_to_ = at;
    }
}

}  // namespace dredger

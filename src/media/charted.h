// A copy of a medium with what is known of its unreadable areas: these are bad here, too.
#pragma once

#include <algorithm>

#include "media/coverage.h"

namespace dredger {

class Charted final : public Medium {
  public:
    Charted(MediumPtr whole, const std::vector<Extent>& bad) : whole_(std::move(whole)), bad_(bad) {}

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    std::uint64_t zeros_from(std::uint64_t offset) const override {
        return bad_.covers(offset) ? 0 : std::min(whole_->zeros_from(offset), bad_.next_from(offset) - offset);
    }
    void expect(std::uint64_t offset, std::uint64_t length) const override { whole_->expect(offset, length); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr whole_;
    Coverage bad_;
};

// Fills `into`, which stands for the bytes from `offset` on, without asking for those in `known`: these come as zeros
// and are added to `bad`, all others come from `read(offset, part)`, which returns a Result<void>.
template <class Read>
Result<void> read_around(const std::vector<Extent>& known, std::uint64_t offset, std::span<std::byte> into,
                         std::vector<Extent>& bad, Read read) {
    std::uint64_t at = offset;
    const auto read_to = [&](std::uint64_t to) -> Result<void> {
        return to > at ? read(at, into.subspan(at - offset, to - at)) : Result<void>();
    };
    for (const Extent& lost : known) {
        DREDGER_CHECK(read_to(lost.offset));
        const auto part = into.subspan(lost.offset - offset, lost.length);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back(lost);
        at = lost.end();
    }
    return read_to(offset + into.size());
}

}  // namespace dredger

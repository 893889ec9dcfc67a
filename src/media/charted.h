// A copy of a medium with what is known of its unreadable areas: these are bad here, too.
#pragma once

#include "media/medium.h"

namespace dredger {

class Charted final : public Medium {
  public:
    // `bad`: in order, apart from each other.
    Charted(MediumPtr whole, std::vector<Extent> bad) : whole_(std::move(whole)), bad_(std::move(bad)) {}

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override { whole_->expect(offset, length); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr whole_;
    std::vector<Extent> bad_;
};

// What of the range lies in extents that are in order and apart from each other.
void add_shared(const std::vector<Extent>& extents, std::uint64_t offset, std::uint64_t length,
                std::vector<Extent>& shared);

}  // namespace dredger

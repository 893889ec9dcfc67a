// Reads a medium that may be failing as gently as can be: an area that could not be read is never asked for again, and
// the further in a row reads fail, the more is passed over. What is passed over counts as unreadable. For readers of
// several threads.
#pragma once

#include <shared_mutex>

#include "media/coverage.h"

namespace dredger {

class Sparing final : public Medium {
  public:
    // `known`: areas that an earlier look at the medium could not read.
    Sparing(MediumPtr whole, const std::vector<Extent>& known);

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

    // All that could not be read, by this and by what was known of earlier looks: in order, apart from each other.
    std::vector<Extent> bad_areas() const;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    std::vector<Extent> known_in(std::uint64_t offset, std::uint64_t length) const;
    void read_gently(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const;

    MediumPtr whole_;
    mutable std::shared_mutex lock_;
    mutable Coverage bad_;
    mutable std::uint64_t failed_up_to_ = ~std::uint64_t{0};
    mutable unsigned in_a_row_ = 0;  // failures, up to there
};

}  // namespace dredger

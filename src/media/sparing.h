// Reads a medium that may be failing as gently as can be: an area that could not be read is never asked for again, and
// the further in a row reads fail, the more is passed over. What is passed over counts as unreadable, unless it turns
// out that the medium has gone: then nothing was learnt of it. For readers of several threads.
#pragma once

#include <atomic>
#include <optional>
#include <shared_mutex>

#include "media/coverage.h"
#include "media/presence.h"

namespace dredger {

class Sparing final : public Medium {
  public:
    static constexpr std::uint64_t kStep = 64 << 10;     // bytes that are given up for one failing read
    static constexpr std::uint64_t kFineStep = 4 << 10;  // for who wants to know it more exactly

    // `known`: areas that an earlier look at the medium could not read. `step`: a power of two.
    Sparing(MediumPtr whole, const std::vector<Extent>& known, std::uint64_t step = kStep);

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    std::uint64_t zeros_from(std::uint64_t offset) const override { return whole_->zeros_from(offset); }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

    // All that could not be read, by this and by what was known of earlier looks: in order, apart from each other.
    std::vector<Extent> bad_areas() const;

    // Fails where the medium has gone: a cable came loose, it lost its power. Where reads have failed since this was
    // asked last, what could be read before them is read once more. Once gone it stays so, and every read fails.
    Result<void> check_presence() const;
    bool has_gone() const { return gone_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    std::vector<Extent> known_in(std::uint64_t offset, std::uint64_t length) const;
    void read_gently(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const;
    std::uint64_t pass_over(std::uint64_t at, std::uint64_t step, std::uint64_t end) const;

    MediumPtr whole_;
    std::uint64_t step_;
    mutable std::shared_mutex lock_;
    mutable Coverage bad_;
    mutable Coverage surely_bad_;  // of that, what was asked for before the medium was last known to be there
    mutable std::uint64_t failed_up_to_ = ~std::uint64_t{0};
    mutable unsigned in_a_row_ = 0;  // failures, up to there
    Presence presence_;
    mutable std::atomic<unsigned> failures_ = 0;  // since the medium was known to be there
    mutable std::atomic<bool> gone_ = false;
    mutable std::optional<Error> why_gone_;
};

}  // namespace dredger

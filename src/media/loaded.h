// A medium of which a part is at hand in memory: reads within that part don't go to the medium.
#pragma once

#include "media/medium.h"

namespace dredger {

class Loaded final : public Medium {
  public:
    // `bytes` are what stands at `at` of `whole`, all of them read without fault; they must outlive this.
    Loaded(MediumPtr whole, std::uint64_t at, std::span<const std::byte> bytes)
        : whole_(std::move(whole)), at_(at), bytes_(bytes) {}

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override {
        whole_->add_known_bad(offset, length, bad);
    }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr whole_;
    std::uint64_t at_;
    std::span<const std::byte> bytes_;
};

}  // namespace dredger

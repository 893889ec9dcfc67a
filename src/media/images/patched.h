// A medium over which some pages are laid: what a journal says should stand there.
#pragma once

#include <map>

#include "media/medium.h"

namespace dredger {

class Patched final : public Medium {
  public:
    explicit Patched(MediumPtr below) : below_(std::move(below)) {}

    void lay(std::uint64_t offset, std::vector<std::byte> bytes);
    bool empty() const { return patches_.empty(); }

    std::uint64_t size() const override { return below_->size(); }
    std::uint32_t sector_size() const override { return below_->sector_size(); }
    std::string name() const override { return below_->name(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override { below_->expect(offset, length); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr below_;
    std::map<std::uint64_t, std::vector<std::byte>> patches_;  // by offset; they start at multiples of what is longest
    std::size_t longest_ = 0;
};

}  // namespace dredger

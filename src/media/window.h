// A part of a medium as a medium of its own: a volume, mostly.
#pragma once

#include <algorithm>

#include "media/medium.h"

namespace dredger {

class Window final : public Medium {
  public:
    // The part must lie within `whole`; what reaches past its end is cut off.
    Window(MediumPtr whole, std::uint64_t offset, std::uint64_t length);

    std::uint64_t size() const override { return length_; }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    std::uint64_t zeros_from(std::uint64_t offset) const override {
        return offset < length_ ? std::min(whole_->zeros_from(offset_ + offset), length_ - offset) : 0;
    }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr whole_;
    std::uint64_t offset_;
    std::uint64_t length_;
};

}  // namespace dredger

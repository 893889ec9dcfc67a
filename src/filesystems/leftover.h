// What a file system leaves of its volume: the ground that it holds nothing on, with zeros elsewhere. Whatever an
// earlier file system wrote and today's has not taken stands there, and nothing that is kept today does.
#pragma once

#include "filesystems/space_map.h"
#include "media/medium.h"

namespace dredger {

class Leftover final : public Medium {
  public:
    Leftover(MediumPtr volume, const SpaceMap& today);

    std::uint64_t size() const override { return volume_->size(); }
    std::uint32_t sector_size() const override { return volume_->sector_size(); }
    std::string name() const override { return volume_->name(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    MediumPtr volume_;
    std::vector<Extent> left_;  // by place
};

}  // namespace dredger

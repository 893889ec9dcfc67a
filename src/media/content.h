// A file's content as a medium: its layout, read in order. Holes read as zeros and are reported as bad, since nothing
// stands there.
#pragma once

#include "media/medium.h"

namespace dredger {

class Content final : public Medium {
  public:
    // `layout` lists extents on `whole`, in content order. What lies past the end of `whole` becomes a hole.
    Content(MediumPtr whole, const std::vector<Extent>& layout);

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    struct Piece {
        std::uint64_t start;  // byte of the content
        Extent where;
    };
    MediumPtr whole_;
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0;
};

}  // namespace dredger

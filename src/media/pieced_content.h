// Content whose extents are packed each by itself (LayoutExtent::pack). What of one can't be unpacked is reported as
// bad.
#pragma once

#include "media/layout.h"

namespace dredger {

class PiecedContent final : public Medium {
  public:
    PiecedContent(MediumPtr whole, const Layout& layout, std::uint64_t size);

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    static constexpr std::uint64_t kNothing = ~std::uint64_t{0};
    struct Piece {
        std::uint64_t start;        // byte of the content
        std::vector<Extent> where;  // one, or all in which its packed bytes lie
        Pack pack;
        std::uint64_t content;  // bytes
    };
    Result<void> read_piece(const Piece& piece, std::uint64_t from, std::span<std::byte> into,
                            std::vector<Extent>& bad) const;
    Result<void> load(const Piece& piece) const;

    MediumPtr whole_;
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0;
    mutable std::uint64_t loaded_ = kNothing;  // the place of the packed extent in `bytes_`
    mutable std::vector<std::byte> bytes_;     // that came out of it
    mutable std::size_t good_ = 0;             // of these, as many are right
};

// Unpacks into `into`, which is as large as what comes out, and tells how many of its bytes are right: fewer than all
// where `packed` stops making sense or breaks off. Zeros may follow the packed bytes.
std::size_t unpack_extent(Pack::Method method, std::span<const std::byte> packed, std::span<std::byte> into);

}  // namespace dredger

// A file's content as a medium: its layout, read in order. Holes read as zeros and are reported as bad, since nothing
// stands there; stretches that are zeros by definition are good.
#pragma once

#include "media/layout.h"

namespace dredger {

// `layout` counts from the start of `whole`; what of it lies past the end of `whole` becomes a hole. The content has
// `size` bytes, or as many as the layout tells of.
std::unique_ptr<Medium> open_content(MediumPtr whole, const Layout& layout, std::uint64_t size);

// Extents on another medium, one behind the other.
class Content final : public Medium {
  public:
    Content(MediumPtr whole, const std::vector<Extent>& extents);
    // What is packed stays so.
    Content(MediumPtr whole, const Layout& layout);

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;
    std::uint64_t zeros_from(std::uint64_t offset) const override;

    // Where the bytes of this range lie on the other medium.
    std::vector<Extent> places_of(std::uint64_t offset, std::uint64_t length) const;

    // How many bytes of this range are stored, and do not stand for zeros.
    std::uint64_t stored_bytes_in(std::uint64_t offset, std::uint64_t length) const;

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    struct Piece {
        std::uint64_t start;  // byte of the content
        Extent where;
        MediumPtr made;  // of what is composed; null where nothing is
    };
    void add(const Extent& extent);
    std::vector<Piece>::const_iterator piece_at(std::uint64_t offset) const;

    MediumPtr whole_;
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0;
};

// Content that is packed unit by unit. What of a unit can't be unpacked is reported as bad.
class PackedContent final : public Medium {
  public:
    PackedContent(MediumPtr whole, const Layout& layout, std::uint64_t size);

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return stored_.sector_size(); }
    std::string name() const override { return stored_.name(); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    Result<void> load_unit(std::uint64_t number) const;

    Content stored_;
    std::uint32_t unit_;
    std::uint64_t size_;
    mutable std::uint64_t loaded_ = ~std::uint64_t{0};  // number of the unit in `bytes_`
    mutable std::vector<std::byte> bytes_;
    mutable std::vector<Extent> bad_;  // within the unit
};

}  // namespace dredger

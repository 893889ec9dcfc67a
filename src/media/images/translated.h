// A medium whose bytes lie elsewhere, piece by piece: in a file, on a parent disk, packed, or nowhere, which is zeros.
// Every virtual disk says only where each piece is. For readers of several threads.
#pragma once

#include <algorithm>
#include <memory>
#include <vector>

#include "media/medium.h"
#include "media/recent.h"

namespace dredger {

// Where the bytes from some byte of the disk on lie, up to the end of the piece.
struct Place {
    std::uint64_t length = 0;  // bytes; at least 1
    MediumPtr on = nullptr;    // null: unpacked, or zeros
    std::uint64_t offset = 0;  // on it, or in `unpacked`
    std::shared_ptr<const std::vector<std::byte>> unpacked = nullptr;

    static Place zeros(std::uint64_t length) { return {length}; }
};

class Translated : public Medium {
  public:
    // `unit`: bytes that a damaged table entry costs, at most.
    Translated(std::string name, std::uint64_t size, std::uint64_t unit)
        : name_(std::move(name)), size_(size), unit_(unit) {}

    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return name_; }
    void expect(std::uint64_t offset, std::uint64_t length) const override;
    std::uint64_t zeros_from(std::uint64_t offset) const override;
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override;

  protected:
    // What this disk does not hold: the same bytes of the one that it builds on (null: none), zeros behind its end.
    static Place from_parent(const MediumPtr& parent, std::uint64_t offset, std::uint64_t length) {
        if (parent == nullptr || offset >= parent->size()) return Place::zeros(length);
        return {std::min(length, parent->size() - offset), parent, offset};
    }

    // The first of `count` sectors behind `first` that is here, by its bit, where `first` is not, or the other way
    // round.
    template <class IsHere>
    static std::uint64_t end_of_run(std::uint64_t first, std::uint64_t count, const IsHere& is_here) {
        std::uint64_t next = first + 1;
        while (next < count && is_here(next) == is_here(first)) ++next;
        return next;
    }

    // `offset` lies within size(). An error costs the rest of the unit.
    virtual Result<Place> place_of(std::uint64_t offset) const = 0;
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    std::string name_;
    std::uint64_t size_;
    std::uint64_t unit_;
};

// A table of little- or big-endian numbers in a file, read a part at a time.
class NumberTable {
  public:
    enum class Endian { little, big };

    // `count` numbers of `width` bytes (4 or 8) from `offset` of `file` on.
    NumberTable(MediumPtr file, std::uint64_t offset, std::uint64_t count, unsigned width, Endian endian)
        : file_(std::move(file)), offset_(offset), count_(count), width_(width), endian_(endian) {}

    std::uint64_t count() const { return count_; }
    // An error past the end of the table or of the file, and where it can't be read.
    Result<std::uint64_t> at(std::uint64_t index) const;

  private:
    MediumPtr file_;
    std::uint64_t offset_;
    std::uint64_t count_;
    unsigned width_;
    Endian endian_;
    Recent<std::vector<std::byte>> parts_{64};
};

}  // namespace dredger

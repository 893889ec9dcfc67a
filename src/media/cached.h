// Keeps the blocks of a medium that were read last, for parsers that come back to the same places.
#pragma once

#include "media/medium.h"
#include "media/recent.h"

namespace dredger {

class Cached final : public Medium {
  public:
    // Holds at most `blocks` blocks of `block` bytes.
    explicit Cached(MediumPtr whole, std::size_t blocks = 2048, std::size_t block = 4096)
        : whole_(std::move(whole)), block_(block), blocks_(blocks) {}

    std::uint64_t size() const override { return whole_->size(); }
    std::uint32_t sector_size() const override { return whole_->sector_size(); }
    std::string name() const override { return whole_->name(); }
    std::uint64_t zeros_from(std::uint64_t offset) const override { return whole_->zeros_from(offset); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override {
        whole_->add_known_bad(offset, length, bad);
    }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override;

  private:
    struct Block {
        std::vector<std::byte> bytes;
        std::vector<Extent> bad;
    };

    MediumPtr whole_;
    std::size_t block_;
    Recent<Block> blocks_;  // by number
};

}  // namespace dredger

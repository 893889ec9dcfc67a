// The bytes of a stream of a compound file ([MS-CFB]).
#pragma once

#include <algorithm>
#include <string>
#include <vector>

#include "formats/reader.h"

namespace dredger::formats {

// The bytes of a stream, which lie in blocks of one size anywhere in the content. What is asked for behind its last
// block is 0.
class BlockStream {
  public:
    BlockStream() = default;
    // `size`: bytes that it says it has; no more of them are there than fit into the blocks at `places`.
    BlockStream(Reader& content, std::vector<std::uint64_t> places, std::uint64_t block, std::uint64_t size)
        : content_(&content), places_(std::move(places)), block_(block), size_(size) {}

    std::uint64_t size() const { return size_; }
    std::uint64_t there() const { return std::min(size_, places_.size() * block_); }
    bool is_complete() const { return content_ != nullptr && there() == size_; }
    bool ok() const { return content_ != nullptr && content_->ok(); }
    Reader& content() const { return *content_; }

    // Of a byte that is there: where in the content it lies.
    std::uint64_t place_of(std::uint64_t at) const {
        return places_[static_cast<std::size_t>(at / block_)] + at % block_;
    }
    unsigned u8(std::uint64_t at) const { return at < there() ? content_->u8(place_of(at)) : 0; }
    unsigned u16(std::uint64_t at) const { return u8(at) | u8(at + 1) << 8; }
    std::uint32_t u32(std::uint64_t at) const { return u16(at) | std::uint32_t{u16(at + 2)} << 16; }
    // As much of it as is there.
    std::string text(std::uint64_t at, std::uint64_t length) const;

  private:
    Reader* content_ = nullptr;
    std::vector<std::uint64_t> places_;
    std::uint64_t block_ = 1, size_ = 0;
};

}  // namespace dredger::formats

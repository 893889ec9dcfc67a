// What tells content that makes sense from what stands in its place after damage.
#pragma once

#include <optional>
#include <span>

#include "formats/reader.h"

namespace dredger::repairing {

// How far text, which comes piece by piece, stays text. Of what does not begin as text all is taken.
class SenseOfText {
  public:
    void add(std::span<const std::byte> bytes);
    // Bytes from the start that make sense.
    std::uint64_t sensible() const { return is_text_ && is_over_ ? sensible_ : size_; }

  private:
    static constexpr std::uint64_t kHead = 256;  // bytes that show whether it is text

    std::uint64_t size_ = 0, sensible_ = 0;
    bool is_text_ = true, is_over_ = false;
    unsigned following_ = 0;  // bytes of a character that are still to come
};

// The first sector within [from, to) that holds nothing but zeros; sectors count from the start of the content.
std::optional<std::uint64_t> first_sector_of_zeros(Reader& content, std::uint64_t from, std::uint64_t to);

// Where the first run of zeros stands within [from, to) that fills a sector's part of packed data.
std::optional<std::uint64_t> first_run_of_zeros(Reader& content, std::uint64_t from, std::uint64_t to);

}  // namespace dredger::repairing

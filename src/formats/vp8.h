// Pictures of VP8 (RFC 6386), as WebP and WebM hold them: followed to their last block without being drawn. The code
// has no check of its own, and anything can be decoded; but what is wrong seldom comes to its end where the data does.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>

namespace dredger::formats {

// Whether the data of a key frame is as long as its blocks need. Nothing where it is no such frame.
std::optional<bool> vp8_fills(std::span<const std::byte> data);

}  // namespace dredger::formats

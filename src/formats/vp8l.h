// Pictures of lossless WebP (RFC 9649, section 3): followed to their last point without being drawn.
#pragma once

#include <cstddef>
#include <optional>
#include <span>

namespace dredger::formats {

// Whether the data is as long as its points need, and makes sense to its end. Nothing where it is no such picture, or
// too large to be followed.
std::optional<bool> vp8l_fills(std::span<const std::byte> data);

}  // namespace dredger::formats

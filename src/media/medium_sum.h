// The checksum of what stands on a medium.
#pragma once

#include <optional>
#include <string>

#include "media/medium.h"

namespace dredger {

// SHA-256 of the first `most` bytes, or of all where there are fewer; none where not each of them can be read.
std::optional<std::string> sha256_of(const Medium& medium, std::uint64_t most);

}  // namespace dredger

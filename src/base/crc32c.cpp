#include "base/crc32c.h"

namespace dredger {

std::uint32_t crc32c(std::span<const std::byte> bytes) { return ~Crc32c().add(bytes).value(); }

}  // namespace dredger

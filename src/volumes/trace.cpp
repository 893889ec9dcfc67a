#include "volumes/trace.h"

#include "base/checked.h"

namespace dredger {

std::optional<std::vector<std::byte>> bytes_at(const Medium& medium, std::uint64_t offset, std::size_t length) {
    const auto end = checked_add(offset, std::uint64_t{length});
    if (!end || *end > medium.size()) return std::nullopt;
    auto bytes = medium.bytes(offset, length);
    if (!bytes) return std::nullopt;
    return std::move(*bytes);
}

bool stands_at(const Medium& medium, std::uint64_t offset, std::string_view expected) {
    const auto bytes = bytes_at(medium, offset, expected.size());
    return bytes && ByteView(*bytes).has(0, expected);
}

}  // namespace dredger

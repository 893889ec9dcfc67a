#include "media/medium_sum.h"

#include <algorithm>

#include "base/digest.h"

namespace dredger {

std::optional<std::string> sha256_of(const Medium& medium, std::uint64_t most) {
    constexpr std::uint64_t kPiece = 1 << 20;  // bytes read together
    Sha256 sum;
    const std::uint64_t end = std::min(most, medium.size());
    std::vector<std::byte> piece(static_cast<std::size_t>(std::min(end, kPiece)));
    for (std::uint64_t at = 0; at < end; at += piece.size()) {
        const std::span<std::byte> part =
            std::span(piece).first(static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), end - at)));
        std::vector<Extent> bad;
        if (!medium.read(at, part, &bad) || !bad.empty()) return std::nullopt;
        sum.add(part);
    }
    return sum.finish();
}

}  // namespace dredger

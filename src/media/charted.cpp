#include "media/charted.h"

#include <algorithm>

namespace dredger {

void add_shared(const std::vector<Extent>& extents, std::uint64_t offset, std::uint64_t length,
                std::vector<Extent>& shared) {
    const std::uint64_t end = offset + length;
    auto extent = std::lower_bound(extents.begin(), extents.end(), offset,
                                   [](const Extent& e, std::uint64_t at) { return e.end() <= at; });
    for (; extent != extents.end() && extent->offset < end; ++extent) {
        const std::uint64_t from = std::max(offset, extent->offset), to = std::min(end, extent->end());
        if (from < to) shared.push_back({from, to - from});
    }
}

void Charted::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    add_shared(bad_, offset, length, bad);
}

Result<void> Charted::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    std::vector<Extent> known;
    add_shared(bad_, offset, into.size(), known);
    std::uint64_t at = offset;
    const std::uint64_t end = offset + into.size();
    const auto read_to = [&](std::uint64_t to) -> Result<void> {
        if (to > at) DREDGER_CHECK(whole_->read(at, into.subspan(at - offset, to - at), &bad));
        return {};
    };
    for (const Extent& lost : known) {
        DREDGER_CHECK(read_to(lost.offset));
        const auto part = into.subspan(lost.offset - offset, lost.length);
        std::fill(part.begin(), part.end(), std::byte{0});
        bad.push_back(lost);
        at = lost.end();
    }
    return read_to(end);
}

}  // namespace dredger

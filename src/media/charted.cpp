#include "media/charted.h"

namespace dredger {

void Charted::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    const auto known = bad_.within(offset, length);
    bad.insert(bad.end(), known.begin(), known.end());
}

Result<void> Charted::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    return read_around(bad_.within(offset, into.size()), offset, into, bad,
                       [&](std::uint64_t at, std::span<std::byte> part) { return whole_->read(at, part, &bad); });
}

}  // namespace dredger

#include "media/loaded.h"

#include <algorithm>

#include "base/bytes.h"

namespace dredger {

Result<void> Loaded::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    if (offset < at_ || !lies_within(offset - at_, into.size(), bytes_.size())) return whole_->read(offset, into, &bad);
    const auto from = bytes_.subspan(static_cast<std::size_t>(offset - at_), into.size());
    std::copy(from.begin(), from.end(), into.begin());
    return {};
}

}  // namespace dredger

#include "media/images/patched.h"

#include <algorithm>

namespace dredger {

void Patched::lay(std::uint64_t offset, std::vector<std::byte> bytes) {
    longest_ = std::max(longest_, bytes.size());
    patches_[offset] = std::move(bytes);
}

Result<void> Patched::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    DREDGER_CHECK(below_->read(offset, into, &bad));
    const std::uint64_t end = offset + into.size();
    for (auto patch = patches_.lower_bound(offset - std::min<std::uint64_t>(offset, longest_));
         patch != patches_.end() && patch->first < end; ++patch) {
        const std::uint64_t from = std::max(offset, patch->first);
        const std::uint64_t to = std::min(end, patch->first + patch->second.size());
        if (from < to)
            std::copy_n(patch->second.begin() + static_cast<std::ptrdiff_t>(from - patch->first), to - from,
                        into.begin() + static_cast<std::ptrdiff_t>(from - offset));
    }
    return {};
}

}  // namespace dredger

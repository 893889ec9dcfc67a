#include "media/cached.h"

#include <algorithm>

namespace dredger {

Result<void> Cached::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    for (std::size_t done = 0; done < into.size();) {
        const std::uint64_t at = offset + done;
        const std::uint64_t start = at / block_ * block_;
        DREDGER_TRY(const auto from, blocks_.get(at / block_, [&]() -> Result<Block> {
            Block fresh{std::vector<std::byte>(std::min<std::uint64_t>(block_, size() - start)), {}};
            DREDGER_CHECK(whole_->read(start, fresh.bytes, &fresh.bad));
            return fresh;
        }));
        const std::size_t skip = at % block_;
        const std::size_t n = std::min(into.size() - done, from->bytes.size() - skip);
        std::copy_n(from->bytes.begin() + static_cast<std::ptrdiff_t>(skip), n,
                    into.begin() + static_cast<std::ptrdiff_t>(done));
        for (const Extent& lost : from->bad) {
            const std::uint64_t first = std::max(lost.offset, at);
            const std::uint64_t last = std::min(lost.end(), at + n);
            if (first < last) bad.push_back({first, last - first});
        }
        done += n;
    }
    return {};
}

}  // namespace dredger

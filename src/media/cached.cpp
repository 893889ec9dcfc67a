#include "media/cached.h"

#include <algorithm>

namespace dredger {

Result<const Cached::Block*> Cached::block(std::uint64_t number) const {
    if (const auto known = by_number_.find(number); known != by_number_.end()) {
        recent_.splice(recent_.begin(), recent_, known->second);
        return &recent_.front();
    }
    Block fresh{number, {}, {}};
    const std::uint64_t start = number * kBlock;
    fresh.bytes.resize(std::min<std::uint64_t>(kBlock, size() - start));
    DREDGER_CHECK(whole_->read(start, fresh.bytes, &fresh.bad));
    recent_.push_front(std::move(fresh));
    by_number_[number] = recent_.begin();
    if (recent_.size() > most_) {
        by_number_.erase(recent_.back().number);
        recent_.pop_back();
    }
    return &recent_.front();
}

Result<void> Cached::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    for (std::size_t done = 0; done < into.size();) {
        const std::uint64_t at = offset + done;
        DREDGER_TRY(const Block* from, block(at / kBlock));
        const std::size_t skip = at % kBlock;
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

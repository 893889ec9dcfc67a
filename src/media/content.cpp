#include "media/content.h"

#include <algorithm>

#include "base/checked.h"

namespace dredger {

Content::Content(MediumPtr whole, const std::vector<Extent>& layout) : whole_(std::move(whole)) {
    for (Extent extent : layout) {
        const auto end = checked_add(size_, extent.length);
        if (!end) break;
        if (!extent.is_hole() && !lies_within(extent.offset, extent.length, whole_->size())) {
            const std::uint64_t there = extent.offset < whole_->size() ? whole_->size() - extent.offset : 0;
            if (there > 0) pieces_.push_back({size_, {extent.offset, there}});
            pieces_.push_back({size_ + there, {Extent::kHole, extent.length - there}});
        } else {
            pieces_.push_back({size_, extent});
        }
        size_ = *end;
    }
}

Result<void> Content::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    auto piece = std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                  [](std::uint64_t at, const Piece& p) { return at < p.start; });
    if (piece != pieces_.begin()) --piece;
    for (std::size_t done = 0; done < into.size() && piece != pieces_.end(); ++piece) {
        const std::uint64_t skip = offset + done - piece->start;
        const auto part = into.subspan(done, std::min<std::uint64_t>(into.size() - done, piece->where.length - skip));
        if (part.empty()) continue;
        if (piece->where.is_hole()) {
            std::fill(part.begin(), part.end(), std::byte{0});
            bad.push_back({offset + done, part.size()});
        } else {
            std::vector<Extent> lost;
            DREDGER_CHECK(whole_->read(piece->where.offset + skip, part, &lost));
            for (const Extent& l : lost) bad.push_back({l.offset - piece->where.offset + piece->start, l.length});
        }
        done += part.size();
    }
    return {};
}

}  // namespace dredger

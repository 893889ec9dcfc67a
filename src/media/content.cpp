#include "media/content.h"

#include <algorithm>

#include "base/checked.h"
#include "media/lznt1.h"
#include "media/pieced_content.h"

namespace dredger {

std::unique_ptr<Medium> open_content(MediumPtr whole, const Layout& layout, std::uint64_t size) {
    if (layout.codec == Codec::none) return std::make_unique<Content>(std::move(whole), layout);
    if (layout.codec == Codec::each) return std::make_unique<PiecedContent>(std::move(whole), layout, size);
    return std::make_unique<PackedContent>(std::move(whole), layout, size);
}

Content::Content(MediumPtr whole, const std::vector<Extent>& extents) : whole_(std::move(whole)) {
    for (const Extent& extent : extents) add(extent);
}

Content::Content(MediumPtr whole, const Layout& layout) : whole_(std::move(whole)) {
    for (const Extent& extent : layout.extents) add(extent);
}

void Content::add(const Extent& extent) {
    if (!checked_add(size_, extent.length)) return;
    if (extent.is_stored() && !lies_within(extent.offset, extent.length, whole_->size())) {
        const std::uint64_t there = extent.offset < whole_->size() ? whole_->size() - extent.offset : 0;
        if (there > 0) pieces_.push_back({size_, {extent.offset, there}, nullptr});
        pieces_.push_back({size_ + there, Extent::unknown(extent.length - there), nullptr});
    } else {
        pieces_.push_back({size_, extent, extent.is_composed() ? whole_->composed(extent.offset) : nullptr});
    }
    size_ += extent.length;
}

std::vector<Content::Piece>::const_iterator Content::piece_at(std::uint64_t offset) const {
    auto piece = std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                  [](std::uint64_t at, const Piece& p) { return at < p.start; });
    if (piece != pieces_.begin()) --piece;
    return piece;
}

std::uint64_t Content::stored_bytes_in(std::uint64_t offset, std::uint64_t length) const {
    std::uint64_t stored = 0;
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    for (auto piece = piece_at(offset); piece != pieces_.end() && piece->start < end; ++piece) {
        const std::uint64_t from = std::max(offset, piece->start);
        const std::uint64_t to = std::min(end, piece->start + piece->where.length);
        if (!piece->where.is_zeros() && to > from) stored += to - from;
    }
    return stored;
}

std::vector<Extent> Content::places_of(std::uint64_t offset, std::uint64_t length) const {
    std::vector<Extent> places;
    const std::uint64_t end = std::min(size_, checked_add(offset, length).value_or(size_));
    for (auto piece = piece_at(offset); piece != pieces_.end() && piece->start < end; ++piece) {
        const std::uint64_t from = std::max(offset, piece->start);
        const std::uint64_t to = std::min(end, piece->start + piece->where.length);
        if (to <= from) continue;
        const Extent part = piece->where.part(from - piece->start, to - from);
        if (!places.empty() && part.is_stored() && places.back().goes_on_with(part))
            places.back().length += part.length;
        else
            places.push_back(part);
    }
    return places;
}

void Content::expect(std::uint64_t offset, std::uint64_t length) const {
    for (const Extent& place : places_of(offset, length))
        if (place.is_stored()) whole_->expect(place.offset, place.length);
}

std::uint64_t Content::zeros_from(std::uint64_t offset) const {
    const auto piece = piece_at(offset);
    if (piece == pieces_.end() || offset >= piece->start + piece->where.length) return 0;
    const std::uint64_t here = offset - piece->start, rest = piece->where.length - here;
    if (piece->where.is_stored()) return std::min(rest, whole_->zeros_from(piece->where.offset + here));
    return piece->where.is_zeros() ? rest : 0;
}

void Content::add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const {
    std::uint64_t at = offset;
    for (const Extent& place : places_of(offset, length)) {
        if (place.is_stored()) {
            const std::size_t before = bad.size();
            whole_->add_known_bad(place.offset, place.length, bad);
            for (std::size_t i = before; i < bad.size(); ++i) bad[i].offset = bad[i].offset - place.offset + at;
        }
        at += place.length;
    }
}

Result<void> Content::read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const {
    auto piece = piece_at(offset);
    for (std::size_t done = 0; done < into.size() && piece != pieces_.end(); ++piece) {
        const std::uint64_t skip = offset + done - piece->start;
        const auto part = into.subspan(done, std::min<std::uint64_t>(into.size() - done, piece->where.length - skip));
        if (part.empty()) continue;
        if (piece->where.is_stored()) {
            std::vector<Extent> lost;
            DREDGER_CHECK(whole_->read(piece->where.offset + skip, part, &lost));
            for (const Extent& l : lost) bad.push_back({l.offset - piece->where.offset + piece->start, l.length});
        } else if (piece->made && lies_within(skip, part.size(), piece->made->size())) {
            std::vector<Extent> lost;
            DREDGER_CHECK(piece->made->read(skip, part, &lost));
            for (const Extent& l : lost) bad.push_back({l.offset + piece->start, l.length});
        } else {
            std::fill(part.begin(), part.end(), std::byte{0});
            if (!piece->where.is_zeros()) bad.push_back({offset + done, part.size()});
        }
        done += part.size();
    }
    return {};
}

PackedContent::PackedContent(MediumPtr whole, const Layout& layout, std::uint64_t size)
    : stored_(std::move(whole), layout), unit_(layout.unit), size_(std::min(size, stored_.size())) {}

Result<void> PackedContent::read_within(std::uint64_t offset, std::span<std::byte> into,
                                        std::vector<Extent>& bad) const {
    while (!into.empty()) {
        const std::uint64_t number = offset / unit_;
        if (number != loaded_) DREDGER_CHECK(load_unit(number));
        const std::uint64_t base = number * unit_;
        const auto at = static_cast<std::size_t>(offset - base);
        const std::size_t part = std::min(into.size(), unit_ - at);
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(at), part, into.begin());
        for (const Extent& lost : bad_) {
            const std::uint64_t from = std::max<std::uint64_t>(lost.offset, at);
            const std::uint64_t to = std::min<std::uint64_t>(lost.end(), at + part);
            if (from < to) bad.push_back({base + from, to - from});
        }
        into = into.subspan(part);
        offset += part;
    }
    return {};
}

Result<void> PackedContent::load_unit(std::uint64_t number) const {
    loaded_ = ~std::uint64_t{0};
    bytes_.assign(unit_, std::byte{0});
    bad_.clear();
    const std::uint64_t base = number * unit_;
    const std::uint64_t there = std::min<std::uint64_t>(unit_, stored_.size() - base);
    const std::uint64_t stored = stored_.stored_bytes_in(base, there);
    std::vector<Extent> lost;
    if (stored == there) {
        DREDGER_CHECK(stored_.read(base, std::span(bytes_).first(static_cast<std::size_t>(there)), &lost));
        for (const Extent& l : lost) bad_.push_back({l.offset - base, l.length});
    } else if (stored > 0) {
        std::vector<std::byte> packed(static_cast<std::size_t>(stored));
        DREDGER_CHECK(stored_.read(base, packed, &lost));
        // What follows a lost byte can't be unpacked.
        std::uint64_t good = stored;
        for (const Extent& l : lost) good = std::min(good, l.offset - base);
        const std::size_t unpacked =
            lznt1_unpack(ByteView(std::span(packed).first(static_cast<std::size_t>(good))), bytes_);
        if (unpacked < unit_) bad_.push_back({unpacked, unit_ - unpacked});
    }
    loaded_ = number;
    return {};
}

}  // namespace dredger

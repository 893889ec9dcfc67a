#include "media/pieced_content.h"

#include <algorithm>
#include <lzo/lzo1x.h>
#include <utility>

#include "base/bytes.h"
#include "base/stream_decoder.h"
#include "media/content.h"
#include "media/lzfse.h"

namespace dredger {
namespace {

constexpr std::uint64_t kMaxUnpacked = 16 << 20;  // bytes of one extent: no file system packs more together

// As Btrfs frames it: the length of all, then pieces of a sector of content each, with their lengths, none of which
// crosses a sector's end (Linux, fs/btrfs/lzo.c).
std::size_t unpack_lzo(std::span<const std::byte> packed, std::span<std::byte> into) {
    constexpr std::size_t kSector = 4096, kLength = 4;
    const ByteView view(packed);
    const std::size_t end = std::min<std::size_t>(view.u32le(0).value_or(0), packed.size());
    std::size_t out = 0;
    for (std::size_t at = kLength; at + kLength <= end && out < into.size();) {
        const std::size_t length = *view.u32le(at);
        at += kLength;
        if (length > packed.size() - at) break;
        lzo_uint done = std::min(kSector, into.size() - out);
        const int result = lzo1x_decompress_safe(reinterpret_cast<const unsigned char*>(packed.data() + at), length,
                                                 reinterpret_cast<unsigned char*>(into.data() + out), &done, nullptr);
        if (result != LZO_E_OK) break;
        out += done;
        at += length;
        if (kSector - at % kSector < kLength) at += kSector - at % kSector;
    }
    return out;
}

}  // namespace

std::size_t unpack_extent(Pack::Method method, std::span<const std::byte> packed, std::span<std::byte> into) {
    switch (method) {
        case Pack::Method::zlib: return StreamDecoder::decode_all(Packing::zlib, packed, into);
        case Pack::Method::lzo: return unpack_lzo(packed, into);
        case Pack::Method::zstd: return StreamDecoder::decode_all(Packing::zstd, packed, into);
        case Pack::Method::lzvn: return lzvn_unpack(packed, into);
        case Pack::Method::lzfse: return lzfse_unpack(packed, into);
        case Pack::Method::none: break;
    }
    const std::size_t length = std::min(packed.size(), into.size());
    std::copy_n(packed.begin(), length, into.begin());
    return length;
}

PiecedContent::PiecedContent(MediumPtr whole, const Layout& layout, std::uint64_t size) : whole_(std::move(whole)) {
    std::vector<Extent> parts;  // of a packed extent that is told by several
    for (const LayoutExtent& extent : layout.extents) {
        if (size_ >= size) break;
        parts.push_back(extent);
        if (extent.pack.is_packed() && extent.pack.content == 0) continue;
        const std::uint64_t length = std::min(extent.content(), size - size_);
        if (length > 0) pieces_.push_back({size_, std::exchange(parts, {}), extent.pack, extent.content()});
        size_ += length;
        parts.clear();
    }
}

Result<void> PiecedContent::read_within(std::uint64_t offset, std::span<std::byte> into,
                                        std::vector<Extent>& bad) const {
    auto piece = std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                  [](std::uint64_t at, const Piece& p) { return at < p.start; });
    if (piece != pieces_.begin()) --piece;
    for (; !into.empty() && piece != pieces_.end(); ++piece) {
        const std::uint64_t end = std::min(piece->start + piece->content, size_);
        if (offset >= end) continue;
        const auto part = into.first(static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), end - offset)));
        DREDGER_CHECK(read_piece(*piece, offset - piece->start, part, bad));
        into = into.subspan(part.size());
        offset += part.size();
    }
    return {};
}

// `from`: of the piece's part of the content.
Result<void> PiecedContent::read_piece(const Piece& piece, std::uint64_t from, std::span<std::byte> into,
                                       std::vector<Extent>& bad) const {
    const std::uint64_t at = piece.start + from;
    std::fill(into.begin(), into.end(), std::byte{0});
    const Extent& where = piece.where.front();
    if (!where.is_stored()) {
        if (where.is_unknown()) bad.push_back({at, into.size()});
        return {};
    }
    if (!piece.pack.is_packed()) {
        const std::uint64_t place = where.offset + from;
        const std::uint64_t there =
            place < whole_->size() ? std::min<std::uint64_t>(into.size(), whole_->size() - place) : 0;
        std::vector<Extent> lost;
        if (there > 0) DREDGER_CHECK(whole_->read(place, into.first(static_cast<std::size_t>(there)), &lost));
        for (const Extent& l : lost) bad.push_back({at + (l.offset - place), l.length});
        if (there < into.size()) bad.push_back({at + there, into.size() - there});
        return {};
    }
    if (loaded_ != where.offset) DREDGER_CHECK(load(piece));
    const std::uint64_t first = std::uint64_t{piece.pack.skip} + from;
    const std::uint64_t right = first < good_ ? std::min<std::uint64_t>(into.size(), good_ - first) : 0;
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(first, bytes_.size())), right,
                into.begin());
    if (right < into.size()) bad.push_back({at + right, into.size() - right});
    return {};
}

Result<void> PiecedContent::load(const Piece& piece) const {
    loaded_ = kNothing;
    good_ = 0;
    bytes_.assign(static_cast<std::size_t>(std::min<std::uint64_t>(piece.pack.unpacked, kMaxUnpacked)), std::byte{0});
    const Content stored(whole_, piece.where);
    if (stored.size() <= kMaxUnpacked) {
        std::vector<std::byte> packed(static_cast<std::size_t>(stored.size()));
        std::vector<Extent> lost;
        DREDGER_CHECK(stored.read(0, packed, &lost));
        // What follows a lost byte can't be unpacked.
        std::uint64_t good = packed.size();
        for (const Extent& l : lost) good = std::min(good, l.offset);
        good_ = unpack_extent(piece.pack.method, std::span(packed).first(static_cast<std::size_t>(good)), bytes_);
    }
    loaded_ = piece.where.front().offset;
    return {};
}

}  // namespace dredger

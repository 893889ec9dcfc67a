#include "volumes/mapping.h"

#include <algorithm>

#include "media/content.h"
#include "media/window.h"

namespace dredger {
namespace {

// On the medium, in the volume's order.
std::vector<Extent> pieces_of(const Volume& volume) {
    return volume.pieces.empty() ? std::vector<Extent>{{volume.offset, volume.length}} : volume.pieces;
}

// The first piece that reaches behind `at`, a byte of the volume.
std::size_t piece_at(const Volume& volume, std::uint64_t at) {
    if (volume.starts.size() != volume.pieces.size()) return 0;
    const auto behind = std::upper_bound(volume.starts.begin(), volume.starts.end(), at);
    return behind == volume.starts.begin() ? 0 : static_cast<std::size_t>(behind - volume.starts.begin()) - 1;
}

}  // namespace

void index_pieces(Volume& volume) {
    volume.starts.clear();
    std::uint64_t start = 0;
    for (const Extent& piece : volume.pieces) {
        volume.starts.push_back(start);
        start += piece.length;
    }
}

std::vector<Extent> on_medium(const Volume& volume, const std::vector<Extent>& on_volume) {
    const std::vector<Extent> whole = {{volume.offset, volume.length}};
    const std::vector<Extent>& pieces = volume.pieces.empty() ? whole : volume.pieces;
    std::vector<Extent> places;
    for (const Extent& run : on_volume) {
        if (!run.is_stored()) {  // what is composed has no place, whatever volume its store lies on
            places.push_back(run);
            continue;
        }
        const std::size_t first = piece_at(volume, run.offset);
        std::uint64_t start = first > 0 ? volume.starts[first] : 0, left = run.length;  // of a piece, on the volume
        for (std::size_t n = first; n < pieces.size() && start < run.end(); ++n) {
            const Extent& piece = pieces[n];
            const std::uint64_t from = std::max(run.offset, start), to = std::min(run.end(), start + piece.length);
            if (from < to) {
                places.push_back(piece.part(from - start, to - from));
                left -= to - from;
            }
            start += piece.length;
        }
        if (left > 0) places.push_back(Extent::unknown(left));
    }
    return places;
}

MediumLayout on_medium(const Volume& volume, VolumeLayout&& layout) {
    MediumLayout there{std::move(static_cast<Layout&>(layout))};
    // Units of LZNT1 follow each other whatever extents they lie in.
    const bool is_packed = there.codec == Codec::each;
    std::vector<LayoutExtent> extents;
    for (const LayoutExtent& extent : std::exchange(there.extents, {})) {
        // A cut volume's files reach behind its end: whoever reads them there learns that nothing is left.
        if (extent.is_stored() && volume.pieces.empty()) {
            extents.push_back(extent);
            extents.back().offset += volume.offset;
            continue;
        }
        const std::vector<Extent> places = on_medium(volume, std::vector<Extent>{extent});
        if (!is_packed)
            extents.insert(extents.end(), places.begin(), places.end());
        else
            extents.emplace_back(places.size() == 1 ? places.front() : Extent::unknown(extent.length), extent.pack);
    }
    there.extents = std::move(extents);
    return there;
}

std::vector<Extent> on_volume(const Volume& volume, const Extent& on_medium) {
    std::vector<Extent> parts;
    std::uint64_t start = 0;  // of a piece, on the volume
    for (const Extent& piece : pieces_of(volume)) {
        const std::uint64_t from = std::max(on_medium.offset, piece.offset);
        const std::uint64_t to = std::min(on_medium.end(), piece.end());
        if (on_medium.is_stored() && from < to) parts.push_back({start + (from - piece.offset), to - from});
        start += piece.length;
    }
    return parts;
}

MediumPtr open_volume(const MediumPtr& medium, const Volume& volume) {
    if (volume.pieces.empty()) return std::make_shared<Window>(medium, volume.offset, volume.length);
    return std::make_shared<Content>(medium, volume.pieces);
}

}  // namespace dredger

#include "ranking/evidence.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/crc32c.h"
#include "media/content.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLeastPadding = 8;  // bytes; fewer zeros can be chance
constexpr std::uint64_t kLastBytes = 8;     // of the content
constexpr unsigned kLearnFrom = 256;        // live files

Tail look_behind(const Medium& volume, const Layout& layout) {
    if (layout.empty() || layout.codec != Codec::none || layout.within_records) return Tail::unknown;
    const Extent& last_piece = layout.extents.back();
    if (!last_piece.is_stored() || last_piece.length < kLastBytes) return Tail::unknown;
    const std::uint64_t end = last_piece.end();
    const std::uint64_t padding = (kSector - end % kSector) % kSector;
    if (padding < kLeastPadding) return Tail::unknown;
    const auto bytes = volume.bytes(end - kLastBytes, static_cast<std::size_t>(kLastBytes + padding));
    if (!bytes) return Tail::unknown;
    const std::span<const std::byte> all(*bytes);
    const ByteView last(all.first(kLastBytes));
    const ByteView behind(all.subspan(kLastBytes));
    if (!behind.is_uniform() || behind.bytes().front() != std::byte{0}) return Tail::foreign;
    // Zeros behind zeros show no end.
    return last.is_uniform() && last.bytes().front() == std::byte{0} ? Tail::unknown : Tail::padded;
}

std::vector<Holder> most_first(const std::map<std::int64_t, std::uint64_t>& bytes_by_candidate) {
    std::vector<Holder> holders;
    for (const auto& [candidate, bytes] : bytes_by_candidate) holders.push_back({candidate, bytes});
    std::stable_sort(holders.begin(), holders.end(),
                     [](const Holder& a, const Holder& b) { return a.bytes > b.bytes; });
    return holders;
}

// Bytes covered by any of `pieces`, which may overlap.
std::uint64_t covered(std::vector<Extent> pieces) {
    std::sort(pieces.begin(), pieces.end(), [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
    std::uint64_t sum = 0;
    std::uint64_t reached = 0;
    for (const Extent& piece : pieces) {
        const std::uint64_t from = std::max(reached, piece.offset);
        if (piece.end() > from) sum += piece.end() - from;
        reached = std::max(reached, piece.end());
    }
    return sum;
}

std::vector<Extent> both(std::vector<Extent> some, const std::vector<Extent>& others) {
    some.insert(some.end(), others.begin(), others.end());
    return some;
}

// What of the shared bytes the claiming file has written, and what lies behind its end.
std::pair<Extent, Extent> split(const Extent& shared, const Claim& claim) {
    const std::uint64_t end = std::clamp(claim.where.end() - claim.unwritten, shared.offset, shared.end());
    return {{shared.offset, end - shared.offset}, {end, shared.end() - end}};
}

void gather_claims(const Record& record, std::int64_t candidate, const Claims& claims, const SpaceMap& space,
                   Evidence& evidence) {
    const auto last_sign = last_sign_of_life(record);
    std::map<std::int64_t, std::uint64_t> live;
    std::map<std::int64_t, std::uint64_t> newer;
    for (const Extent& extent : record.layout.extents) {
        if (!extent.is_stored()) continue;
        std::vector<Extent> held, behind_held;  // what live files wrote, and the rest of their clusters
        std::vector<Extent> claimed;
        std::vector<Extent> own;  // of a live file that has another name
        claims.live_in(extent, [&](const Claim& claim, const Extent& shared) {
            if (claim.file == record.content_key()) return own.push_back(shared);
            const auto [written, behind] = split(shared, claim);
            if (written.length > 0) live[claim.candidate] += written.length;
            held.push_back(written);
            behind_held.push_back(behind);
        });
        const std::uint64_t held_here = covered(held);
        const std::uint64_t behind_here = covered(both(held, behind_held)) - held_here;
        const std::uint64_t taken = space.taken_bytes_in(extent);
        const std::uint64_t taken_here = taken - std::min(taken, covered(own));
        evidence.held_by_live += held_here;
        evidence.behind_ends += behind_here;
        if (taken_here > held_here + behind_here) evidence.taken_by_unknown += taken_here - held_here - behind_here;
        claims.others_in(extent, [&](const Claim& claim, const Extent& shared) {
            // Of two that lived at the same time one is wrong about these bytes; who knows which.
            const bool is_newer = claim.last_sign && last_sign && !(*claim.last_sign < *last_sign);
            if (claim.candidate == candidate || claim.file == record.content_key() || !is_newer) return;
            const Extent written = split(shared, claim).first;
            if (written.length > 0) newer[claim.candidate] += written.length;
            claimed.push_back(written);
        });
        const std::uint64_t free_here = extent.length - std::min(extent.length, taken_here);
        evidence.claimed_by_newer += std::min(covered(claimed), free_here);
    }
    evidence.live_holders = most_first(live);
    evidence.newer_claimants = most_first(newer);
}

// How many bytes of it can be had: nothing stands behind the end of a volume that was cut short.
std::uint64_t bytes_there(const Extent& extent, std::uint64_t volume_size) {
    if (extent.is_unknown()) return 0;
    if (extent.is_zeros() || extent.is_composed()) return extent.length;
    return extent.offset < volume_size ? std::min(extent.length, volume_size - extent.offset) : 0;
}

// A packed byte that is lost costs as many bytes of content as it stood for.
void in_bytes_of_content(Evidence& evidence, std::uint64_t stored) {
    if (stored == 0) return;
    const double factor = static_cast<double>(evidence.laid) / static_cast<double>(stored);
    for (std::uint64_t* bytes :
         {&evidence.held_by_live, &evidence.taken_by_unknown, &evidence.claimed_by_newer, &evidence.behind_ends})
        *bytes = std::min(evidence.size, static_cast<std::uint64_t>(std::ceil(static_cast<double>(*bytes) * factor)));
}

// Whether the file system's own checksum says so; false where it keeps none.
bool begins_as_it_was_written(const Layout& layout, const Medium& volume) {
    if (layout.sums.empty() || layout.sum_unit == 0 || !layout.extents.front().is_stored()) return false;
    const auto unit = volume.bytes(layout.extents.front().offset, layout.sum_unit);
    return unit && crc32c(*unit) == layout.sums.front();
}

// Whether it differs from one repeated byte in any of some places all over it.
bool has_content_further_on(const Medium& content) {
    constexpr std::uint64_t kPlaces = 16;
    std::vector<std::byte> sector(kSector);
    for (std::uint64_t i = 1; i <= kPlaces; ++i) {
        const std::uint64_t at = content.size() / kPlaces * i;
        const auto part = std::span(sector).first(
            static_cast<std::size_t>(std::min(kSector, content.size() - std::min(at, content.size()))));
        std::vector<Extent> bad;
        if (part.size() < 16 || content.zeros_from(at) > 0 || !content.read(at, part, &bad) || !bad.empty()) continue;
        if (!ByteView(part).is_uniform()) return true;
    }
    return false;
}

}  // namespace

std::optional<FileTime> last_sign_of_life(const FileEntry& record) {
    std::optional<FileTime> last;
    for (const auto& time : {record.created, record.modified, record.changed})
        if (time && (!last || *last < *time)) last = time;
    return last;
}

void PaddingHabit::learn(const Medium& volume, const Record& record) {
    if (padded_ + foreign_ >= kLearnFrom || record.state != State::live || record.size == 0) return;
    const Tail tail = look_behind(volume, record.layout);
    if (tail == Tail::padded) ++padded_;
    if (tail == Tail::foreign) ++foreign_;
}

Evidence gather(const Record& record, std::int64_t candidate, const Claims& claims, const SpaceMap& space,
                const Medium& volume, const PaddingHabit& habit) {
    Evidence evidence;
    evidence.is_live = record.state == State::live || record.state == State::trashed;
    evidence.is_trashed = record.state == State::trashed;
    evidence.is_folder = record.is_folder;
    evidence.size = record.size;
    evidence.fragments = record.layout.extents.size();
    evidence.trust = record.trust;
    evidence.notes = record.notes;
    evidence.within_records = record.layout.within_records;
    evidence.encrypted =
        std::find(record.attributes.begin(), record.attributes.end(), kEncrypted) != record.attributes.end();
    std::uint64_t stored = 0;
    const Layout& layout = record.layout;
    for (const LayoutExtent& extent : layout.extents) {
        const std::uint64_t there = bytes_there(extent, volume.size());
        const std::uint64_t content = extent.pack.is_packed() && there > 0 ? extent.content() : there;
        evidence.laid += std::min(content, record.size - evidence.laid);
        if (extent.is_stored()) stored += there;
    }
    if (evidence.is_live || record.is_folder || record.layout.empty()) return evidence;

    if (!evidence.within_records) gather_claims(record, candidate, claims, space, evidence);
    if (record.layout.codec != Codec::none) in_bytes_of_content(evidence, stored);
    const auto content =
        open_content(std::shared_ptr<const Medium>(std::shared_ptr<void>(), &volume), record.layout, record.size);
    std::vector<std::byte> head(static_cast<std::size_t>(std::min(kSector, content->size())));
    std::vector<Extent> bad;
    if (content->read(0, head, &bad)) {
        for (const Extent& lost : bad) evidence.unreadable += lost.length;
        const ByteView view(head);
        // Where zeros stand by definition the medium says nothing.
        if (bad.empty() && record.layout.extents.front().is_stored())
            evidence.head = judge_head(extension_of(record.name), view);
        // Packed bytes that can be unpacked are not wiped; and what begins so by its own nature has others further on.
        if (evidence.head == Agreement::blank &&
            (record.layout.codec != Codec::none || begins_as_it_was_written(record.layout, volume) ||
             (format_with_extension(extension_of(record.name)) == nullptr && has_content_further_on(*content))))
            evidence.head = Agreement::unknown;
        if (evidence.head == Agreement::disagrees) evidence.found_format = format_with_head(view);
    }
    if (habit.is_known() && evidence.laid == evidence.size) evidence.tail = look_behind(volume, record.layout);
    return evidence;
}

}  // namespace dredger

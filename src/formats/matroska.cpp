// Matroska and WebM: EBML (RFC 8794) and Matroska (RFC 9559).
#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/ebml.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

using namespace ebml;

constexpr std::uint32_t kTitle = 0x7BA9, kDateUtc = 0x4461;
constexpr std::int64_t k2001 = 978'307'200;  // seconds from 1970 to what DateUTC counts from

bool is_top_level(std::uint32_t id) {
    constexpr std::uint32_t kTop[] = {kSeekHead,    kInfo,     kTracks, kCluster, kCues,
                                      kAttachments, kChapters, kTags,   kVoid,    kCrc32};
    return std::find(std::begin(kTop), std::end(kTop), id) != std::end(kTop);
}

bool is_in_cluster(std::uint32_t id) {
    constexpr std::uint32_t kParts[] = {kTimestamp,  kSilentTracks,   kPosition, kPrevSize, kSimpleBlock,
                                        kBlockGroup, kEncryptedBlock, kVoid,     kCrc32};
    return std::find(std::begin(kParts), std::end(kParts), id) != std::end(kParts);
}

// How far the elements of a cluster make sense; up to `end` where it is known.
std::uint64_t walk_cluster(Reader& content, std::uint64_t at, std::uint64_t end) {
    while (at < end) {
        const auto e = element_at(content, at);
        if (!e || !is_in_cluster(e->id) || e->size == kUnknown || e->end() > end || !content.holds(e->start, e->size))
            return at;
        if ((e->id == 0xA3 && (e->size < 4 || (content.u8(e->start) & 0x80U) == 0))) return at;
        at = e->end();
    }
    return at;
}

Measured measure_matroska(Reader& content) {
    const auto head = element_at(content, 0);
    if (!head || head->id != kEbml || head->size > 256) return nonsense();
    const std::string doctype = content.text(head->start, static_cast<std::size_t>(head->size));
    const bool webm = doctype.find("webm") != std::string::npos;
    if (!webm && doctype.find("matroska") == std::string::npos) return nonsense();
    const std::string_view name = webm ? "webm" : "mkv";
    const auto segment = element_at(content, head->end());
    if (!segment || segment->id != kSegment) return nonsense();
    const bool known = segment->size != kUnknown;
    const std::uint64_t end = known ? segment->end() : content.size();
    std::uint64_t at = segment->start;
    bool has_tracks = false;
    bool has_clusters = false;
    const auto stopped = [&](std::uint64_t good) {
        if (!has_tracks || (!has_clusters && good < segment->start + 4096)) return nonsense();
        return broken(std::min(good, content.size()), "the clusters stop making sense", known ? end : 0, name);
    };
    while (at < end) {
        const auto e = element_at(content, at);
        if (!e || !is_top_level(e->id)) {
            if (!known && has_clusters) return open_ended(at, Proof::chain, name);
            return stopped(at);
        }
        has_tracks = has_tracks || e->id == kTracks;
        if (e->size == kUnknown && e->id != kCluster) return stopped(at);
        const std::uint64_t element_end = e->size == kUnknown ? end : e->end();
        if (e->id == kCluster) {
            const std::uint64_t good = walk_cluster(content, e->start, std::min(element_end, end));
            has_clusters = has_clusters || good > e->start;
            if (e->size != kUnknown && good != element_end) return stopped(good);
            at = good;
            continue;
        }
        if (element_end > end || !content.holds(e->start, e->size)) return stopped(at);
        at = element_end;
    }
    return has_tracks ? whole(end, Proof::chain, name) : nonsense();
}

Description describe_matroska(Reader& content, std::uint64_t length) {
    Description said;
    const auto head = element_at(content, 0);
    const auto segment = head ? element_at(content, head->end()) : std::nullopt;
    if (!segment) return said;
    for (std::uint64_t at = segment->start; at < length;) {
        const auto e = element_at(content, at);
        if (!e || e->size == kUnknown || e->id == kCluster) break;
        if (e->id == kInfo) {
            for (std::uint64_t inner = e->start; inner < e->end();) {
                const auto fact = element_at(content, inner);
                if (!fact || fact->size > 4096) break;
                if (fact->id == kTitle)
                    said.title = printable(content.text(fact->start, static_cast<std::size_t>(fact->size)));
                if (fact->id == kDateUtc && fact->size == 8)
                    said.date = FileTime{static_cast<std::int64_t>(content.u64be(fact->start)) / 1'000'000'000 + k2001,
                                         0, FileTime::Clock::utc};
                inner = fact->end();
            }
        }
        at = e->end();
    }
    return said;
}

}  // namespace

const std::vector<Format>& matroska() {
    static const std::vector<Format> family = {
        {.name = "mkv",
         .kind = Kind::video,
         .extensions = {"mkv", "mka"},
         .signatures = {{{0, "\x1A\x45\xDF\xA3"sv}}},
         .measure = measure_matroska,
         .describe = describe_matroska,
         .ending = "the segment, or the last cluster",
         .checked = "the elements, block by block"},
        {.name = "webm",
         .kind = Kind::video,
         .extensions = {"webm"},
         .signatures = {{{0, "\x1A\x45\xDF\xA3"sv}}},
         .told_by = "mkv"},
    };
    return family;
}

}  // namespace dredger::formats

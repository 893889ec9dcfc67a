// Matroska and WebM (RFC 8794, RFC 9559): its description and the clusters that stand are kept, what of a damaged one
// stands too; sizes are told anew, and cues point to what is there.
#include <algorithm>
#include <fmt/format.h>
#include <utility>

#include "base/text.h"
#include "formats/ebml.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

using namespace formats::ebml;

constexpr std::uint64_t kLargestBlock = 64 << 20;  // bytes

std::string id_bytes(std::uint32_t id) {
    std::string bytes;
    for (int shift = 24; shift >= 0; shift -= 8)
        if (!bytes.empty() || id >> shift != 0) bytes.push_back(static_cast<char>(id >> shift & 0xFFU));
    return bytes;
}
std::string number(std::uint64_t value, unsigned bytes) {
    std::string text;
    for (unsigned i = bytes; i-- > 0;) text.push_back(static_cast<char>(value >> (8 * i) & 0xFFU));
    return text;
}
// With a size of eight bytes.
std::string head(std::uint32_t id, std::uint64_t size) {
    return id_bytes(id) + number(size | std::uint64_t{1} << 56, 8);
}
std::string element(std::uint32_t id, const std::string& holds) { return head(id, holds.size()) + holds; }

class MatroskaMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = extension_of(file_.name) == "webm" ? "webm" : "mkv";
        done_.unit = "blocks";
        const Measured found = measured(file_, "mkv", bench_);
        if (!found.format.empty()) done_.format = found.format;
        const bool is_whole = shows_no_damage(found);
        DREDGER_CHECK(read());
        if (is_whole) {
            done_.of = done_.kept;
            return as_it_is(file_, bench_, std::move(done_));
        }
        if (!find_tracks()) {
            done_.of = std::exchange(done_.kept, 0);
            return std::move(done_);
        }
        if (clusters_.empty()) {
            done_.of = std::exchange(done_.kept, 0);
            done_.what.emplace_back("none of its clusters is to be found");
            return std::move(done_);
        }
        DREDGER_TRY(Output output, bench_.output());
        write(output);
        done_.of = done_.kept;
        if (lost_ > 0) done_.what.push_back(fmt::format("{} bytes belong to no whole block", lost_));
        if (has_lost_times_) done_.what.emplace_back("times of a cluster are lost and were guessed");
        done_.what.emplace_back("its sizes and cues were made anew");
        done_.outcome = lost_ == 0 && reference_.empty() && file_.holes.empty() ? Outcome::mended : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }

  private:
    struct Cluster {
        std::uint64_t time = 0;
        std::vector<Extent> parts;  // of what it holds, whole elements
    };

    // All elements that stand, from wherever they can be found.
    Result<void> read() {
        for (std::uint64_t at = 0; at < content_.size();) {
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            const auto here = element_at(content_, at);
            const bool is_whole = here && here->size != kUnknown && content_.holds(here->start, here->size);
            if (here && here->id == kSegment) {
                at = here->start;
            } else if (here && here->id == kCluster) {
                at = cluster(*here);
            } else if (is_whole && is_kept(here->id) && is_filled(*here)) {
                kept_.push_back(*here);
                at = here->end();
            } else if (is_whole && is_passed(here->id)) {
                at = here->end();
            } else {
                const std::uint64_t next = next_element(at);
                // Blocks of a cluster whose beginning is lost: their times are told from that of the one before.
                const auto block = clusters_.empty() && kept_.empty() ? std::nullopt : next_block(at, next);
                lost_ += block.value_or(next) - at;
                at = block ? cluster({kCluster, *block, *block, kUnknown}) : next;
            }
        }
        return {};
    }

    static bool is_kept(std::uint32_t id) {
        return id == kEbml || id == kInfo || id == kTracks || id == kTags || id == kChapters || id == kAttachments;
    }
    // Whether it is made of elements up to its very end.
    bool is_filled(const Element& element) {
        std::uint64_t at = element.start;
        while (at < element.end()) {
            const auto part = element_at(content_, at);
            if (!part || part->size > element.end() - part->start) return false;
            at = part->end();
        }
        return at == element.end();
    }

    static bool is_passed(std::uint32_t id) { return id == kSeekHead || id == kCues || id == kVoid || id == kCrc32; }

    // Behind damage: the next cluster, or something of the description.
    std::uint64_t next_element(std::uint64_t at) {
        std::uint64_t next = content_.size();
        for (const std::uint32_t id : {kSegment, kCluster, kTracks, kInfo, kTags})
            if (const auto found = content_.find(id_bytes(id), at + 1, next)) next = *found;
        return next;
    }

    bool is_part(const std::optional<Element>& part) {
        return part && part->size <= kLargestBlock && content_.holds(part->start, part->size) &&
               is_of_cluster(part->id);
    }

    // Behind damage within a cluster: a block that another one, or the next cluster, follows.
    std::optional<std::uint64_t> next_block(std::uint64_t at, std::uint64_t end) {
        for (++at; at < end && !content_.budget().is_spent(); ++at) {
            if (content_.u8(at) != kSimpleBlock && content_.u8(at) != kBlockGroup) continue;
            const auto part = element_at(content_, at);
            if (!is_part(part) || part->size < 4) continue;
            const auto next = element_at(content_, part->end());
            if (part->end() == content_.size() || part->end() == end || is_part(next)) return at;
        }
        return std::nullopt;
    }

    // Takes what stands of a cluster; where it ends, or where it stops making sense.
    std::uint64_t cluster(const Element& element) {
        Cluster cluster;
        bool has_time = false;
        if (element.at == element.start) {
            has_time = true;
            cluster.time = clusters_.empty() ? 0 : clusters_.back().time;
            has_lost_times_ = true;
        }
        std::uint64_t at = element.start;
        const std::uint64_t end = element.size == kUnknown ? content_.size() : std::min(element.end(), content_.size());
        while (at < end) {
            const auto part = element_at(content_, at);
            if (part && element.size == kUnknown && (is_kept(part->id) || part->id == kCluster || is_passed(part->id)))
                break;
            if (!is_part(part)) {
                const std::uint64_t next = next_element(at);
                const auto block = next_block(at, next);
                lost_ += block.value_or(next) - at;
                if (block) {
                    at = *block;
                    continue;
                }
                keep(std::move(cluster), has_time);
                return next;
            }
            if (part->id == kTimestamp && part->size <= 8) {
                has_time = true;
                for (std::uint64_t i = 0; i < part->size; ++i)
                    cluster.time = cluster.time << 8 | content_.u8(part->start + i);
            }
            const bool is_lost = file_.touches_hole(part->at, part->end() - part->at);
            // Where it stands in the file is not true any more.
            if (is_lost)
                lost_ += part->end() - part->at;
            else if (part->id != kPosition && part->id != kPrevSize)
                append(cluster.parts, {part->at, part->end() - part->at});
            if (!is_lost && (part->id == kSimpleBlock || part->id == kBlockGroup)) ++done_.kept;
            at = part->end();
        }
        keep(std::move(cluster), has_time);
        return at;
    }

    static bool is_of_cluster(std::uint32_t id) {
        constexpr std::uint32_t kParts[] = {kTimestamp, kSimpleBlock, kBlockGroup, kPosition, kPrevSize,
                                            0xEC,       0xBF,         0xAF,        0x5854};
        return std::find(std::begin(kParts), std::end(kParts), id) != std::end(kParts);
    }

    void keep(Cluster&& cluster, bool has_time) {
        if (has_time && !cluster.parts.empty()) clusters_.push_back(std::move(cluster));
    }

    std::optional<Element> own(std::uint32_t id) const {
        const auto found = std::find_if(kept_.begin(), kept_.end(), [&](const Element& one) { return one.id == id; });
        return found == kept_.end() ? std::nullopt : std::optional(*found);
    }

    bool find_tracks() {
        if (own(kTracks)) return true;
        for (const Reference& reference : bench_.references()) {
            Budget budget = bench_.budget();
            Reader theirs(*reference.content, budget);
            for (std::uint64_t at = 0; theirs.holds(at, 4);) {
                const auto here = element_at(theirs, at);
                if (!here || here->id == kCluster) break;
                if (here->id == kTracks || here->id == kInfo || here->id == kEbml)
                    borrowed_ += theirs.text(here->at, static_cast<std::size_t>(here->end() - here->at));
                if (here->id == kTracks) reference_ = reference.name;
                at = here->id == kSegment ? here->start : here->end();
            }
            if (!reference_.empty()) {
                done_.what.push_back("the description of its tracks was taken from " + reference_);
                return true;
            }
        }
        done_.outcome = clusters_.empty() ? Outcome::beyond : without_reference();
        done_.what.emplace_back(
            "the description of its tracks is lost: another film of the same program and settings would help");
        return false;
    }

    void write(Output& output) {
        if (reference_.empty()) {
            if (const auto ebml = own(kEbml))
                output.add(*file_.content, ebml->at, ebml->end() - ebml->at);
            else
                output.add(element(kEbml, element(kDocType, done_.format == "webm" ? "webm" : "matroska") +
                                              element(0x4287, "\4") + element(0x4285, "\2")));
        }
        std::uint64_t segment_at = output.size();
        if (!reference_.empty()) {
            // The borrowed header of the file comes first, what follows it belongs to the segment.
            const std::size_t first = borrowed_.find(id_bytes(kInfo));
            output.add(std::string_view(borrowed_).substr(0, first));
            segment_at = output.size();
        }
        output.add(head(kSegment, 0));
        const std::uint64_t start = output.size();
        if (!reference_.empty())
            output.add(std::string_view(borrowed_).substr(std::min(borrowed_.find(id_bytes(kInfo)), borrowed_.size())));
        for (const Element& one : kept_)
            if (one.id != kEbml && (reference_.empty() || one.id != kInfo))
                output.add(*file_.content, one.at, one.end() - one.at);
        std::string cues;
        for (const Cluster& cluster : clusters_) {
            const std::uint64_t place = output.size() - start;
            std::uint64_t size = 0;
            for (const Extent& part : cluster.parts) size += part.length;
            const bool has_time = std::any_of(cluster.parts.begin(), cluster.parts.end(), [&](const Extent& part) {
                return content_.u8(part.offset) == kTimestamp;
            });
            const std::string time = has_time ? "" : element(kTimestamp, number(cluster.time, 8));
            output.add(head(kCluster, size + time.size()));
            output.add(time);
            for (const Extent& part : cluster.parts) output.add(*file_.content, part.offset, part.length);
            cues += element(0xBB, element(0xB3, number(cluster.time, 8)) +
                                      element(0xB7, element(0xF7, "\1") + element(0xF1, number(place, 8))));
        }
        output.add(element(kCues, cues));
        output.replace(segment_at, head(kSegment, output.size() - start));
    }

    std::vector<Element> kept_;
    std::vector<Cluster> clusters_;
    std::string reference_, borrowed_;
    std::uint64_t lost_ = 0;
    bool has_lost_times_ = false;
};

}  // namespace

const Mender& matroska_mender() {
    static const Mender mender = {
        "Matroska and WebM",
        {"mkv", "webm"},
        "sizes, clusters, tracks",
        [](const Damaged& file) {
            Budget budget;
            Reader content(*file.content, budget);
            return content.find(id_bytes(kCluster), 0, std::min<std::uint64_t>(content.size(), 4 << 20)) ? 30U : 0U;
        },
        [](const Damaged& file, Workbench& bench) { return MatroskaMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing

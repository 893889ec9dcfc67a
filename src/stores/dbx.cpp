// The message stores of an older mail program of Windows (DBX). The format was never published by who made it; what
// stands here follows the public description by Arne Schloh: a tree of records, and messages in chains of segments,
// each of which tells its own place, its length and where the next one is.
#include <algorithm>
#include <set>

#include "base/bytes.h"
#include "formats/reader.h"
#include "stores/families.h"
#include "stores/standing.h"

namespace dredger::stores {
namespace {

constexpr std::string_view kMark("\xCF\xAD\x12\xFE\xC5\xFD\x74\x6F", 8);
constexpr std::uint64_t kRootPlace = 0xE4;      // of the tree's first node
constexpr std::uint64_t kSegmentHeader = 16;    // bytes
constexpr std::uint32_t kMostInSegment = 4096;  // 0x200 is usual
constexpr std::uint8_t kMessagePlace = 0x04;    // a value of a record: where its message begins

class SegmentedStore final : public StandingStore {
  public:
    explicit SegmentedStore(MediumPtr file) : StandingStore(std::move(file), "DBX") {}

    void each(const Sink& sink) const override {
        Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
        Reader content(*file(), budget);
        std::set<std::uint64_t> told;  // places of segments
        for (const std::uint64_t place : listed_messages(content)) {
            auto standing = chain_from(content, place, &told);
            if (standing && !sink(std::move(*standing), place)) return;
        }
        // What no record tells of was deleted, or its record is lost.
        const auto heads = loose_heads(content, told);
        for (const std::uint64_t place : heads) {
            auto standing = chain_from(content, place, nullptr);
            if (!standing || !begins_like_mail(content, standing->where.front().offset)) continue;
            standing->state = State::deleted;
            standing->origin = Origin::remnant;
            standing->notes.emplace_back("the store does not list it any more");
            if (!sink(std::move(*standing), place)) return;
        }
    }

    std::optional<Standing> find(std::uint64_t number) const override {
        Budget budget(Budget::Limits{~std::uint64_t{0}, 0, ~std::uint64_t{0}, 0});
        Reader content(*file(), budget);
        return chain_from(content, number, nullptr);
    }

  private:
    // Whether a segment stands here: it tells its own place.
    static bool is_segment(Reader& content, std::uint64_t at) {
        return content.holds(at, kSegmentHeader) && content.u32le(at) == at && content.u32le(at + 4) != 0 &&
               content.u32le(at + 4) <= kMostInSegment && content.u32le(at + 8) <= content.u32le(at + 4);
    }

    static std::optional<Standing> chain_from(Reader& content, std::uint64_t at, std::set<std::uint64_t>* told) {
        Standing standing;
        standing.number = at;
        std::set<std::uint64_t> seen;
        for (; at != 0; at = content.u32le(at + 12)) {
            if (!is_segment(content, at) || !seen.insert(at).second) {
                standing.is_whole = false;
                break;
            }
            const std::uint32_t length = content.u32le(at + 8);
            const Extent here{at + kSegmentHeader,
                              std::min<std::uint64_t>(length, content.size() - at - kSegmentHeader)};
            if (here.length > 0) append(standing.where, here);
        }
        if (told != nullptr) told->insert(seen.begin(), seen.end());
        return standing.where.empty() ? std::nullopt : std::optional(std::move(standing));
    }

    // In the order of the tree; each of its nodes once.
    static std::vector<std::uint64_t> listed_messages(Reader& content) {
        constexpr std::uint64_t kEntries = 24, kEntry = 12;
        std::vector<std::uint64_t> messages;
        std::vector<std::uint64_t> left = {content.holds(kRootPlace, 4) ? content.u32le(kRootPlace) : 0};
        std::set<std::uint64_t> seen;
        while (!left.empty()) {
            const std::uint64_t node = left.back();
            left.pop_back();
            if (node == 0 || !content.holds(node, kEntries) || content.u32le(node) != node || !seen.insert(node).second)
                continue;
            left.push_back(content.u32le(node + 8));
            const unsigned count = content.u8(node + 17);
            for (unsigned n = 0; n < count && content.holds(node + kEntries + n * kEntry, kEntry); ++n) {
                const std::uint64_t entry = node + kEntries + n * kEntry;
                left.push_back(content.u32le(entry + 4));
                if (const auto place = message_of_record(content, content.u32le(entry))) messages.push_back(*place);
            }
        }
        std::sort(messages.begin(), messages.end());
        return messages;
    }

    // A record: its own place, its length, how many values; each a byte that names it (with the highest bit set: it
    // stands here) and three bytes.
    static std::optional<std::uint64_t> message_of_record(Reader& content, std::uint64_t at) {
        constexpr std::uint64_t kValues = 12;
        if (at == 0 || !content.holds(at, kValues) || content.u32le(at) != at) return std::nullopt;
        const unsigned count = content.u8(at + 10);
        for (unsigned n = 0; n < count && content.holds(at + kValues + 4 * std::uint64_t{n}, 4); ++n) {
            const std::uint64_t value = at + kValues + 4 * std::uint64_t{n};
            const unsigned name = content.u8(value);
            if ((name & 0x7FU) != kMessagePlace) continue;
            const std::uint32_t told = content.u24le(value + 1);
            if ((name & 0x80U) != 0) return told;
            const std::uint64_t place = at + kValues + 4 * std::uint64_t{count} + told;
            return content.holds(place, 4) ? std::optional<std::uint64_t>(content.u32le(place)) : std::nullopt;
        }
        return std::nullopt;
    }

    // Segments that none points to and no listed message has.
    static std::vector<std::uint64_t> loose_heads(Reader& content, const std::set<std::uint64_t>& told) {
        std::vector<std::uint64_t> segments;
        std::set<std::uint64_t> pointed_to;
        for (std::uint64_t at = 0; at + kSegmentHeader <= content.size();) {
            const auto bytes = content.some(at);
            if (bytes.size() < 4) break;
            const ByteView view(bytes);
            const std::size_t count = (bytes.size() - 3 + 3) / 4;
            for (std::size_t n = 0; n < count; ++n)
                if (view.u32le(4 * n).value_or(0) == static_cast<std::uint32_t>(at + 4 * n) && at + 4 * n != 0)
                    segments.push_back(at + 4 * n);
            at += std::max<std::uint64_t>(4, bytes.size() / 4 * 4);
        }
        std::erase_if(segments, [&](std::uint64_t at) { return told.contains(at) || !is_segment(content, at); });
        for (const std::uint64_t at : segments) pointed_to.insert(content.u32le(at + 12));
        std::erase_if(segments, [&](std::uint64_t at) { return pointed_to.contains(at); });
        return segments;
    }

    // The name of a field, and a colon.
    static bool begins_like_mail(Reader& content, std::uint64_t at) {
        const std::string head = content.text(at, 80);
        const std::size_t colon = head.find(':');
        return colon != std::string::npos && colon > 0 &&
               std::all_of(head.begin(), head.begin() + static_cast<std::ptrdiff_t>(colon),
                           [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-'; });
    }
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_dbx(MediumPtr file, bool is_told) {
    const auto start = file->size() >= 8 ? file->bytes(0, 8) : Result<std::vector<std::byte>>();
    if (!is_told && !(start && ByteView(*start).has(0, kMark))) return nullptr;
    return std::make_unique<SegmentedStore>(std::move(file));
}

}  // namespace dredger::stores

#include "repairing/archive/zip_entries.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

#include "base/digest.h"
#include "formats/bytes_of_content.h"
#include "formats/format.h"
#include "formats/unpacking.h"
#include "repairing/sense.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using formats::unpack;
using formats::Unpacked;

constexpr std::uint64_t kMaxHeaders = 4 << 20;
constexpr std::uint64_t kLongestExtra = 512;      // bytes behind a lost header's name among which data may begin
constexpr std::uint64_t kTried = 1 << 20;         // bytes of stored data up to which many beginnings are tried
constexpr std::uint64_t kLeastGap = 64;           // bytes in which an entry without headers may hide
constexpr std::uint64_t kLongestDescriptor = 24;  // bytes

bool can_unpack(const ZipHeader& header) {
    return !header.is_encrypted() &&
           (header.method == kZipStored || header.method == kZipDeflated || header.method == 12 || header.method == 93);
}

Packing packing_of(const ZipHeader& header) {
    switch (header.method) {
        case kZipDeflated: return Packing::deflate;
        case 12: return Packing::bzip2;
        case 93: return Packing::zstd;
        default: return Packing::none;
    }
}

class Finder {
  public:
    Finder(const Damaged& file, Budget& budget) : file_(file), content_(*file.content, budget) {}

    ZipContents run() {
        collect_headers();
        match();
        std::sort(pairs_.begin(), pairs_.end(),
                  [&](const Pair& a, const Pair& b) { return expected_at(a) < expected_at(b); });
        for (const Pair& pair : pairs_) resolve(pair);
        look_between();
        std::stable_sort(found_.entries.begin(), found_.entries.end(),
                         [](const ZipEntry& a, const ZipEntry& b) { return a.data_at < b.data_at; });
        judge_ends();
        return std::move(found_);
    }

  private:
    struct Pair {
        const ZipHeader* local = nullptr;
        const ZipHeader* central = nullptr;
    };

    void collect_headers() {
        for (std::uint64_t at = 0; locals_.size() + centrals_.size() < kMaxHeaders;) {
            const auto next = content_.find("PK", at, content_.size());
            if (!next || content_.budget().is_spent()) break;
            at = *next + 2;
            if (auto local = read_local_header(content_, *next)) {
                locals_.push_back(std::move(*local));
            } else if (auto central = read_central_header(content_, *next)) {
                at = central->end;
                centrals_.push_back(std::move(*central));
                // One whose signature is damaged still stands behind its neighbour.
                if (content_.has(at, "PK")) continue;
                if (auto behind = read_central_header(content_, at, true); behind && is_told_of(*behind)) {
                    at = behind->end;
                    centrals_.push_back(std::move(*behind));
                    damaged("the signature of a directory entry was damaged");
                }
            } else if (content_.has(*next, "PK\5\6"sv) && content_.holds(*next, 22)) {
                ends_.push_back(*next);
            }
        }
    }

    bool is_told_of(const ZipHeader& central) const {
        return std::any_of(locals_.begin(), locals_.end(),
                           [&](const ZipHeader& local) { return local.name == central.name; });
    }

    void damaged(const std::string& remark) {
        found_.is_as_it_should_be = false;
        if (remark.empty()) return;
        if (std::find(found_.remarks.begin(), found_.remarks.end(), remark) == found_.remarks.end())
            found_.remarks.push_back(remark);
    }

    // Pairs headers of one name; bytes that are missing or too many in between shift all that follows.
    void match() {
        std::multimap<std::string_view, std::size_t> by_name;
        for (std::size_t i = 0; i < locals_.size(); ++i) by_name.emplace(locals_[i].name, i);
        std::vector<bool> is_taken(locals_.size());
        std::int64_t shift = 0;
        for (const ZipHeader& central : centrals_) {
            const auto expected = static_cast<std::int64_t>(central.local_at) + shift;
            const auto [from, to] = by_name.equal_range(central.name);
            std::size_t best = locals_.size();
            std::uint64_t least = ~std::uint64_t{0};
            for (auto it = from; it != to; ++it) {
                const auto at = static_cast<std::int64_t>(locals_[it->second].at);
                const auto distance = static_cast<std::uint64_t>(std::abs(at - expected));
                if (is_taken[it->second] || distance >= least) continue;
                least = distance;
                best = it->second;
            }
            if (best == locals_.size()) {
                pairs_.push_back({nullptr, &central});
                continue;
            }
            is_taken[best] = true;
            shift = static_cast<std::int64_t>(locals_[best].at) - static_cast<std::int64_t>(central.local_at);
            shifts_[central.local_at] = shift;
            if (shift != 0) damaged("offsets in its directory did not fit");
            pairs_.push_back({&locals_[best], &central});
        }
        for (std::size_t i = 0; i < locals_.size(); ++i)
            if (!is_taken[i]) pairs_.push_back({&locals_[i], nullptr});
    }

    // Where the local header of a pair stands, or should stand.
    std::uint64_t expected_at(const Pair& pair) const {
        if (pair.local != nullptr) return pair.local->at;
        auto near = shifts_.upper_bound(pair.central->local_at);
        if (near != shifts_.begin()) --near;
        const std::int64_t shift = near == shifts_.end() ? 0 : near->second;
        return static_cast<std::uint64_t>(
            std::max<std::int64_t>(0, static_cast<std::int64_t>(pair.central->local_at) + shift));
    }

    void resolve(const Pair& pair) {
        // What lies within an entry that is right belongs to it: an archive in the archive.
        if (pair.local != nullptr && pair.central == nullptr && pair.local->at < reached_) return;
        ZipEntry entry;
        entry.header = pair.central != nullptr ? *pair.central : *pair.local;
        crcs_.clear();
        if (pair.central != nullptr) crcs_.push_back(pair.central->crc);
        if (pair.local == nullptr) {
            entry.data_at = expected_at(pair) + 30 + entry.header.name.size();
            find_data(entry);
            damaged(entry.is_whole() ? fmt::format("the header in front of {} was lost", entry.header.name) : "");
        } else {
            const ZipHeader& local = *pair.local;
            entry.data_at = local.end;
            if (!local.is_described() || local.crc != 0) crcs_.push_back(local.crc);
            if (pair.central == nullptr) {
                entry.header.external_attributes = entry.header.name.ends_with('/') ? 0x10 : 0;
                if (!centrals_.empty()) damaged("an entry was missing in the directory");
            }
            read(entry, pair);
            const auto disagrees = [&](const ZipHeader* header) {
                return header != nullptr && (header->crc != entry.header.crc || header->size != entry.header.size ||
                                             header->packed != entry.header.packed);
            };
            if (entry.state == ZipEntry::State::right &&
                (disagrees(pair.central) || (!(local.is_described() && local.crc == 0) && disagrees(&local))))
                damaged(fmt::format("a header of {} told wrong sizes or a wrong checksum", entry.header.name));
        }
        // Nothing but a header that stands somewhere: it is no entry of this archive.
        if (pair.central == nullptr && entry.state == ZipEntry::State::lost && entry.header.packed == 0) return;
        if (entry.is_whole()) reached_ = std::max(reached_, entry.data_at + entry.packed);
        entries_at_.push_back(pair.local != nullptr ? pair.local->at : entry.data_at);
        found_.entries.push_back(std::move(entry));
    }

    bool agrees(std::uint32_t crc) const { return std::find(crcs_.begin(), crcs_.end(), crc) != crcs_.end(); }

    // Where the next thing stands that is told by a signature.
    std::uint64_t next_header(std::uint64_t at) const {
        std::uint64_t next = content_.size();
        const auto by_place = [](const ZipHeader& header, std::uint64_t place) { return header.at < place; };
        for (const auto* headers : {&locals_, &centrals_})
            if (const auto it = std::lower_bound(headers->begin(), headers->end(), at, by_place); it != headers->end())
                next = std::min(next, it->at);
        if (const auto it = std::lower_bound(ends_.begin(), ends_.end(), at); it != ends_.end())
            next = std::min(next, *it);
        return next;
    }

    void read(ZipEntry& entry, const Pair& pair) {
        if (!can_unpack(entry.header)) {
            take_packed(entry, pair);
        } else if (entry.header.method == kZipStored) {
            read_stored(entry, pair);
        } else {
            read_packed(entry);
        }
    }

    // Sizes that the headers of a pair tell, and what reaches up to the next header.
    std::vector<std::uint64_t> lengths_of(const ZipEntry& entry, const Pair& pair) const {
        std::vector<std::uint64_t> lengths;
        if (pair.central != nullptr) lengths.push_back(pair.central->packed);
        if (pair.local != nullptr && (!pair.local->is_described() || pair.local->packed != 0))
            lengths.push_back(pair.local->packed);
        const std::uint64_t next = next_header(entry.data_at);
        if (next < content_.size())
            for (const std::uint64_t descriptor : {0U, 12U, 16U, 20U, 24U})
                if (next - entry.data_at >= descriptor) lengths.push_back(next - entry.data_at - descriptor);
        return lengths;
    }

    // Taken as it is, where its headers say how long it is.
    void take_packed(ZipEntry& entry, const Pair& pair) {
        for (const std::uint64_t length : lengths_of(entry, pair)) {
            const std::uint64_t end = entry.data_at + length;
            if (!content_.holds(entry.data_at, length) || file_.touches_hole(entry.data_at, length)) continue;
            if (next_header(end) - end > kLongestDescriptor) continue;
            entry.state = ZipEntry::State::unchecked;
            entry.packed = length;
            entry.kept = entry.header.size;
            entry.kept_crc = entry.header.crc;
            return;
        }
        entry.packed = std::min(entry.header.packed, content_.size() - std::min(entry.data_at, content_.size()));
    }

    void read_stored(ZipEntry& entry, const Pair& pair) {
        const std::vector<std::uint64_t> lengths = lengths_of(entry, pair);
        for (const std::uint64_t length : lengths) {
            if (!content_.holds(entry.data_at, length)) continue;
            std::uint32_t crc = formats::crc32_of(content_, entry.data_at, length);
            // What its header does not tell stands behind it.
            const std::uint64_t behind = entry.data_at + length;
            const bool is_described = pair.local != nullptr && pair.local->is_described() &&
                                      content_.has(behind, "PK\7\x08"sv) && content_.u32le(behind + 4) == crc;
            if (!agrees(crc) && !is_described) continue;
            settle(entry, length, length, crc);
            return;
        }
        if (lengths.empty()) return;
        if (!content_.holds(entry.data_at, lengths.front()))
            return cut(entry, content_.size() - std::min(entry.data_at, content_.size()));
        // Something in it is wrong; what that is does not show here.
        entry.state = ZipEntry::State::doubtful;
        entry.kept = entry.packed = lengths.front();
        entry.kept_crc = formats::crc32_of(content_, entry.data_at, entry.packed);
        damaged("");
    }

    void read_packed(ZipEntry& entry) {
        const Unpacked all = unpack(content_, packing_of(entry.header), entry.data_at, content_.size() - entry.data_at);
        if (!all.ended()) {
            cut(entry, all.packed);
            return;
        }
        const std::uint64_t behind = entry.data_at + all.packed;
        const bool has_mark = content_.has(behind, "PK\7\x08"sv);
        const bool is_described = content_.holds(behind, 16) && content_.u32le(behind + (has_mark ? 4 : 0)) == all.crc;
        if (agrees(all.crc) || is_described) {
            settle(entry, all.packed, all.bytes, all.crc);
        } else {
            cut(entry, all.packed);
            if (entry.kept == all.bytes) entry.state = ZipEntry::State::doubtful;
        }
    }

    void settle(ZipEntry& entry, std::uint64_t packed, std::uint64_t size, std::uint32_t crc) {
        entry.state = ZipEntry::State::right;
        entry.packed = packed;
        entry.kept = entry.header.size = size;
        entry.kept_crc = entry.header.crc = crc;
        entry.header.packed = packed;
    }

    // Keeps what stands before the damage within the first `packed` bytes of an entry's data.
    void cut(ZipEntry& entry, std::uint64_t packed) {
        damaged("");
        const std::uint64_t sound = first_hole(entry.data_at, packed);
        entry.packed = sound;
        if (entry.header.method == kZipStored) {
            entry.kept = sound;
        } else {
            SenseOfText sense;
            StreamDecoder decoder(packing_of(entry.header));
            bool is_going = true;
            formats::each_span(content_, entry.data_at, sound, [&](std::span<const std::byte> bytes) {
                std::size_t used = 0;
                is_going = is_going && decoder.feed(bytes, used, [&](std::span<const std::byte> out) {
                    sense.add(out);
                }) == StreamDecoder::State::going;
            });
            entry.kept = sense.sensible();
        }
        entry.state = entry.kept == 0 ? ZipEntry::State::lost : ZipEntry::State::cut;
        entry.kept_crc = crc_of_kept(entry);
    }

    std::uint32_t crc_of_kept(const ZipEntry& entry) {
        std::uint32_t crc = 0;
        each_byte_of(content_, entry, [&](std::span<const std::byte> bytes) { crc = crc32(bytes, crc); });
        return crc;
    }

    // How much of the range stands before the first known hole in it, or the first sector of zeros, which no packed
    // data has.
    std::uint64_t first_hole(std::uint64_t at, std::uint64_t length) {
        std::uint64_t sound = repairing::first_hole(file_.holes, at, at + length) - at;
        if (const auto zeros = first_run_of_zeros(content_, at, at + sound)) sound = *zeros - at;
        return sound;
    }

    // The local header is lost: the data begins somewhere behind where it was, and the checksum tells where.
    void find_data(ZipEntry& entry) {
        const std::uint64_t first = entry.data_at;
        const ZipHeader& header = entry.header;
        std::vector<std::uint64_t> places = {first, first + header.extra.size()};
        for (const ZipHeader& local : locals_) places.push_back(first + local.extra.size());
        const std::uint64_t next = next_header(first);
        for (const std::uint64_t descriptor : {0U, 12U, 16U, 20U, 24U})
            if (next >= header.packed + descriptor) places.push_back(next - header.packed - descriptor);
        const std::uint64_t many = header.method != kZipStored || header.packed <= kTried ? kLongestExtra : 0;
        const std::uint64_t before = std::min(first, many);
        for (std::uint64_t skip = 0; skip < before + many; ++skip) places.push_back(first - before + skip);
        std::set<std::uint64_t> tried;
        ZipEntry longest = entry;
        for (const std::uint64_t place : places) {
            if (!tried.insert(place).second || !content_.holds(place, std::min<std::uint64_t>(header.packed, 1)))
                continue;
            entry.data_at = place;
            if (!can_unpack(header)) {
                take_packed(entry, {nullptr, &header});
                if (entry.is_whole()) return;
                continue;
            }
            if (header.method == kZipStored) {
                if (content_.holds(place, header.packed) &&
                    formats::crc32_of(content_, place, header.packed) == header.crc)
                    return settle(entry, header.packed, header.packed, header.crc);
                continue;
            }
            const Unpacked all = unpack(content_, packing_of(header), place, content_.size() - place);
            if (all.ended() && all.crc == header.crc) return settle(entry, all.packed, all.bytes, all.crc);
        }
        entry = longest;
        entry.state = ZipEntry::State::lost;
    }

    // Streams that no header tells of any more.
    void look_between() {
        std::vector<Extent> taken;
        for (std::size_t i = 0; i < found_.entries.size(); ++i) {
            const ZipEntry& entry = found_.entries[i];
            const std::uint64_t from = std::min(entries_at_[i], entry.data_at);
            // Behind a damaged entry lies the rest of it.
            const bool is_damaged = entry.state == ZipEntry::State::cut || entry.state == ZipEntry::State::lost;
            const std::uint64_t to = is_damaged ? next_header(entry.data_at) : entry.data_at + entry.packed;
            taken.push_back({from, to - from});
        }
        for (const ZipHeader& central : centrals_) taken.push_back({central.at, central.end - central.at});
        std::sort(taken.begin(), taken.end(), [](const Extent& a, const Extent& b) { return a.offset < b.offset; });
        std::uint64_t at = 0;
        for (const Extent& extent : taken) {
            if (extent.offset >= at + kLeastGap && !found_.entries.empty()) look_in_gap(at, extent.offset);
            at = std::max(at, extent.end());
        }
    }

    void look_in_gap(std::uint64_t from, std::uint64_t to) {
        constexpr std::uint64_t kLeastUnpacked = 128;  // bytes: fewer come out of anything
        const std::uint64_t furthest = std::min(to, from + 1024);
        for (std::uint64_t at = from; at < furthest && !content_.budget().is_spent(); ++at) {
            const Unpacked all = unpack(content_, Packing::deflate, at, to - at, 64 << 10);
            if (!all.ended() || all.bytes < kLeastUnpacked || to - (at + all.packed) > kLongestDescriptor) continue;
            ZipEntry entry;
            entry.header.method = kZipDeflated;
            entry.data_at = at;
            const Format* format = format_with_head(view_of(all.head));
            entry.header.name = fmt::format("entry-{}{}{}", found_.entries.size() + 1, format == nullptr ? "" : ".",
                                            format == nullptr ? "" : format->extensions.front());
            settle(entry, all.packed, all.bytes, all.crc);
            // Nothing but that it ends where it should speaks for it.
            damaged(fmt::format("an entry without any header was found: {}", entry.header.name));
            found_.entries.push_back(std::move(entry));
            return;
        }
    }

    void judge_ends() {
        if (locals_.empty() || ends_.empty() || centrals_.size() < found_.entries.size()) return damaged("");
        if (locals_.front().at != 0) damaged("something foreign stood in front of it");
        const std::uint64_t end = ends_.back();
        if (content_.size() != end + 22 + content_.u16le(end + 20)) damaged("something foreign stood behind it");
        const std::uint64_t count = content_.u16le(end + 10);
        const std::uint64_t start = content_.u32le(end + 16);
        const bool is_long = count == 0xFFFF || start == 0xFFFFFFFF;
        if (!is_long && (count != centrals_.size() || start != centrals_.front().at))
            damaged("the end record told of another directory");
    }

    const Damaged& file_;
    Reader content_;
    std::vector<ZipHeader> locals_, centrals_;
    std::vector<std::uint64_t> ends_;
    std::vector<Pair> pairs_;
    std::map<std::uint64_t, std::int64_t> shifts_;  // by where the directory says a header is
    std::vector<std::uint32_t> crcs_;               // that the headers of the entry at hand tell
    std::uint64_t reached_ = 0;                     // behind the last entry that is whole
    std::vector<std::uint64_t> entries_at_;         // where the headers of the entries found so far stand
    ZipContents found_;
};

}  // namespace

ZipContents find_zip_entries(const Damaged& file, Budget& budget) { return Finder(file, budget).run(); }

void each_byte_of(Reader& content, const ZipEntry& entry,
                  const std::function<void(std::span<const std::byte>)>& visit) {
    std::uint64_t left = entry.kept;
    const auto take = [&](std::span<const std::byte> bytes) {
        bytes = bytes.first(static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), left)));
        left -= bytes.size();
        if (!bytes.empty()) visit(bytes);
    };
    if (entry.header.method == kZipStored) return formats::each_span(content, entry.data_at, entry.packed, take);
    StreamDecoder decoder(packing_of(entry.header));
    formats::each_span(content, entry.data_at, entry.packed, [&](std::span<const std::byte> packed) {
        std::size_t used = 0;
        if (left > 0) (void)decoder.feed(packed, used, take);
    });
}

std::string bytes_of(Reader& content, const ZipEntry& entry, std::uint64_t most) {
    std::string bytes;
    each_byte_of(content, entry, [&](std::span<const std::byte> piece) {
        bytes.append(reinterpret_cast<const char*>(piece.data()),
                     static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), most - bytes.size())));
    });
    return bytes;
}

}  // namespace dredger::repairing

// Single packed streams: gzip (RFC 1952), bzip2, xz (The .xz File Format 1.2), Zstandard (RFC 8878). What comes out in
// front of damage is kept, and behind it what comes out from the next place at which one of them can begin: a member, a
// block, a frame. Tar archives in them are mended, too.
#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>
#include <lzma.h>

#include "base/digest.h"
#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/format.h"
#include "formats/tar_header.h"
#include "formats/unpacking.h"
#include "repairing/archive/bzip2_blocks.h"
#include "repairing/archive/repacking.h"
#include "repairing/archive/tar.h"
#include "repairing/archive/xz_block.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"
#include "repairing/sense.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;

constexpr std::uint64_t kLongestHeader = 1024;  // bytes of gzip's, with a name
constexpr std::uint64_t kProving = 32 << 10;    // unpacked bytes that show a stream that does not end

struct Kind {
    std::string_view format;
    Packing packing;
    std::string_view mark;  // with which a stream begins
};
constexpr Kind kKinds[] = {{"gz", Packing::gzip, "\x1F\x8B\x08"sv},
                           {"bz2", Packing::bzip2, "BZh"sv},
                           {"xz", Packing::xz, "\xFD\x37zXZ\0"sv},
                           {"zst", Packing::zstd, "\x28\xB5\x2F\xFD"sv}};

const Kind* kind_of(const Damaged& file, Reader& content) {
    for (const Kind& kind : kKinds)
        if (content.has(0, kind.mark)) return &kind;
    const Format* named = format_with_extension(extension_of(file.name));
    for (const Kind& kind : kKinds)
        if (named != nullptr && (named->name == kind.format || named->told_by == kind.format)) return &kind;
    return nullptr;
}

class PackedMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        kind_ = kind_of(file_, content_);
        if (kind_ == nullptr) return std::move(done_);
        const Measured found = measured(file_, kind_->format, bench_);
        done_.format = found.format.empty() ? kind_->format : found.format;
        done_.unit = kind_->packing == Packing::bzip2 ? "blocks" : "streams";
        if (found.is_whole() && file_.holes.empty() && !next_stream(found.length)) {
            done_.kept = done_.of = 1;
            if (found.length < content_.size())
                done_.what.push_back(
                    fmt::format("{} bytes that are not its own stand behind it", content_.size() - found.length));
            return as_it_is(file_, bench_, std::move(done_));
        }
        DREDGER_TRY(plain_, bench_.output());
        if (kind_->packing == Packing::bzip2)
            unpack_blocks();
        else
            unpack_streams();
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        DREDGER_CHECK(plain_->finish());
        if (plain_->size() == 0) {
            done_.kept = done_.of = 0;
            done_.what = {"nothing of it can be unpacked"};
            return std::move(done_);
        }
        return packed_again();
    }

  private:
    // Blocks of bzip2 are packed each for itself.
    void unpack_blocks() {
        const std::vector<Bzip2Block> blocks = find_bzip2_blocks(content_);
        for (const Bzip2Block& block : blocks) {
            if (bench_.should_stop()) return;
            ++done_.of;
            const bool is_sound = !file_.touches_hole(block.first_bit / 8, block.bits / 8 + 1);
            const std::string bytes = is_sound ? unpack_bzip2_block(content_, block) : std::string();
            if (bytes.empty()) {
                add_gap();
                continue;
            }
            ++done_.kept;
            plain_->add(bytes);
        }
        if (blocks.empty() || !blocks.back().has_end) is_cut_ = true;
    }

    void unpack_streams() {
        std::uint64_t at = 0;
        const bool is_headless = !content_.has(0, kind_->mark);
        if (is_headless && kind_->packing == Packing::gzip) at = unpack_without_header();
        while (content_.holds(at, 1) && !bench_.should_stop()) {
            const bool is_tried = at == 0 && is_headless && kind_->packing != Packing::gzip;
            const auto start = is_tried ? std::optional<std::uint64_t>(0) : next_stream(at);
            if (!start) {
                is_cut_ = is_cut_ || at == 0;
                return;
            }
            if (*start > at && at > 0) add_gap();
            ++done_.of;
            std::uint64_t end = *start;
            const StreamDecoder::State state = unpack_stream(*start, end);
            if (state == StreamDecoder::State::ended) {
                ++done_.kept;
                if (is_tried) done_.what.emplace_back("its header was lost");
            } else {
                // What it is packed with fails some way behind damage, or at its end.
                is_doubtful_ = is_doubtful_ || state == StreamDecoder::State::failed;
                add_gap();
                if (kind_->packing == Packing::xz) end = unpack_xz_blocks(*start, end);
            }
            at = std::max(end, *start + 1);
        }
    }

    // Where the next stream begins that can be unpacked: to its end, or for long.
    std::optional<std::uint64_t> next_stream(std::uint64_t at) {
        for (std::uint64_t from = at; content_.ok() && !bench_.should_stop();) {
            const auto mark = content_.find(kind_->mark, from, content_.size());
            if (!mark || *mark == 0) return mark;
            const formats::Unpacked all = formats::unpack(content_, kind_->packing, *mark, content_.size() - *mark);
            if (all.ended() || all.bytes >= kProving) return mark;
            from = *mark + 1;
        }
        return std::nullopt;
    }

    // The header of the first member is lost: the packed data begins where it ends with its checksum. Behind it.
    std::uint64_t unpack_without_header() {
        for (std::uint64_t at = 0; at < std::min(kLongestHeader, content_.size()); ++at) {
            const formats::Unpacked all = formats::unpack(content_, Packing::deflate, at, content_.size() - at);
            const std::uint64_t end = at + all.packed;
            if (!all.ended() || all.bytes == 0 || !content_.holds(end, 8) || content_.u32le(end) != all.crc ||
                content_.u32le(end + 4) != static_cast<std::uint32_t>(all.bytes))
                continue;
            ++done_.of;
            ++done_.kept;
            done_.what.emplace_back("its header was lost");
            StreamDecoder decoder(Packing::deflate);
            formats::each_span(content_, at, all.packed, [&](std::span<const std::byte> bytes) {
                std::size_t used = 0;
                decoder.feed(bytes, used, [&](std::span<const std::byte> out) { plain_->add(out); });
            });
            return end + 8;
        }
        return 0;
    }

    // What comes out of a stream in front of any damage. `end`: behind what was unpacked.
    StreamDecoder::State unpack_stream(std::uint64_t at, std::uint64_t& end) {
        const std::uint64_t sound = first_damage(at);
        SenseOfText sense;
        std::uint64_t kept = 0;
        StreamDecoder decoder(kind_->packing);
        auto state = StreamDecoder::State::going;
        const auto feed = [&](std::span<const std::byte> bytes) {
            if (state != StreamDecoder::State::going || bench_.should_stop()) return;
            std::size_t used = 0;
            state = decoder.feed(bytes, used, [&](std::span<const std::byte> out) {
                sense.add(out);
                const std::uint64_t sensible = std::max(sense.sensible(), kept);
                plain_->add(out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), sensible - kept))));
                kept = sensible;
            });
            end += used;
        };
        const std::string head = content_.has(at, kind_->mark) ? std::string() : lost_head();
        feed(std::as_bytes(std::span(head)));
        formats::each_span(content_, at + head.size(), sound - std::min(sound, at + head.size()), feed);
        return state;
    }

    // The header of a stream that begins the content, as far as it can be told.
    std::string lost_head() {
        if (kind_->packing != Packing::xz) return std::string(kind_->mark);
        // Its flags stand again at the end (2.1.2.3); most writers choose CRC-64.
        std::string flags = "\0\x04"s;
        const std::uint64_t size = content_.size();
        if (size >= kXzHeader && content_.has(size - 2, "YZ"sv)) flags = content_.text(size - 4, 2);
        return std::string(kind_->mark) + flags + little32(crc32(std::as_bytes(std::span(flags))));
    }

    // Up to where packed data may reach: the first hole, or a sector of zeros.
    std::uint64_t first_damage(std::uint64_t at) {
        const std::uint64_t end = first_hole(file_.holes, at, content_.size());
        return first_sector_of_zeros(content_, at, end).value_or(end);
    }

    // Writers with several threads pack in blocks, each with a header of its own. Behind the last one that is whole.
    std::uint64_t unpack_xz_blocks(std::uint64_t stream, std::uint64_t broke) {
        std::uint64_t at = std::max(broke, stream + kXzHeader);
        const std::uint64_t limit = content_.find(kind_->mark, at, content_.size()).value_or(content_.size());
        std::uint64_t end = broke;
        while (at < limit && !bench_.should_stop()) {
            const std::uint64_t length = unpack_xz_block(content_, stream, at, [](std::string_view) {});
            if (length == 0 || file_.touches_hole(at, length)) {
                ++at;
                continue;
            }
            unpack_xz_block(content_, stream, at, [&](std::string_view bytes) { plain_->add(bytes); });
            end = at += length;
        }
        return end;
    }

    void add_gap() {
        is_cut_ = true;
        if (gaps_.empty() || gaps_.back() != plain_->size()) gaps_.push_back(plain_->size());
    }

    Result<Mended> packed_again() {
        const MediumPtr plain = plain_->content();
        Budget budget = bench_.budget();
        Reader reader(*plain, budget);
        DREDGER_TRY(Output output, bench_.output());
        Repacking packed(kind_->packing, output);
        const bool is_tar = formats::tar_header_at(reader, 0) || done_.format.starts_with("tar.") ||
                            file_.name.find(".tar.") != std::string::npos;
        if (is_tar) {
            TarMembers members = mend_tar(
                reader, {gaps_, {}, is_doubtful_}, [&](std::string_view bytes) { packed.add(bytes); },
                [&] { return bench_.should_stop(); });
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            done_.kept = members.kept;
            done_.of = members.of;
            done_.unit = "entries";
            done_.what.insert(done_.what.end(), members.what.begin(), members.what.end());
            is_cut_ = is_cut_ || members.lost > 0;
            if (members.of == 0) {
                done_.what.emplace_back("no member stands in what can be unpacked");
                return std::move(done_);
            }
        } else {
            formats::each_span(reader, 0, plain->size(), [&](std::span<const std::byte> bytes) {
                packed.add({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
            });
            if (is_cut_) tell_gaps(plain->size());
        }
        packed.finish();
        if (is_doubtful_)
            done_.what.emplace_back(
                "where the damage begins does not show: some of what is kept in front of it may be wrong");
        is_cut_ = is_cut_ || (is_tar && done_.kept < done_.of);
        done_.outcome = is_cut_ ? Outcome::partly : Outcome::mended;
        if (!is_cut_) done_.what.emplace_back("it was packed again without what is not its own");
        return finished(std::move(output), std::move(done_));
    }

    void tell_gaps(std::uint64_t size) {
        std::vector<std::string> places;
        constexpr std::size_t kMostTold = 8;
        for (const std::uint64_t gap : gaps_)
            if (gap > 0 && gap < size && places.size() < kMostTold) places.push_back(fmt::format("{}", gap));
        if (!places.empty())
            done_.what.push_back(fmt::format("{} unpacked bytes are there; some are missing behind byte {}{}", size,
                                             fmt::join(places, ", "), gaps_.size() > kMostTold ? " and others" : ""));
        else if (gaps_.empty() || gaps_.back() > 0)
            done_.what.push_back(fmt::format("the first {} unpacked bytes are there", size));
        else
            done_.what.push_back(fmt::format("{} unpacked bytes of its end are there", size));
    }

    const Kind* kind_ = nullptr;
    std::optional<Output> plain_;      // what comes out
    std::vector<std::uint64_t> gaps_;  // bytes of it in front of which some are missing
    bool is_cut_ = false;
    bool is_doubtful_ = false;  // a stream failed, some way behind its damage
};

}  // namespace

const Mender& packed_mender() {
    static const Mender mender = {
        "packed streams: gzip, bzip2, xz, Zstandard, and tar in them",
        {"gz", "bz2", "xz", "zst", "tar.gz", "tar.bz2", "tar.xz", "tar.zst"},
        "header, members, blocks, end",
        nullptr,
        [](const Damaged& file, Workbench& bench) { return PackedMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing

// 7z (7zFormat.txt of the LZMA SDK): the header in front is made anew when the directory at the end is found to which
// it pointed. Without a directory the packed streams that follow each other from the start on are unpacked, and what is
// in them is told apart by its content, without names.
#include <algorithm>
#include <fmt/format.h>

#include "base/digest.h"
#include "base/stream_decoder.h"
#include "formats/bytes_of_content.h"
#include "formats/characters.h"
#include "formats/format.h"
#include "formats/unpacking.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;

constexpr std::string_view kMark = "7z\xBC\xAF\x27\x1C\0\x04"sv;  // and the version
constexpr std::uint64_t kStart = 32;                              // bytes of the header in front
constexpr std::uint64_t kLargestDirectory = 4 << 20;              // bytes
constexpr std::uint32_t kDictionary = 64 << 20;                   // bytes that references reach back at most
constexpr std::uint64_t kMostUnpacked = std::uint64_t{4} << 30;   // bytes

// Numbers of the directory: how many bytes follow, stands in the first one's highest bits.
std::uint64_t number(Reader& content, std::uint64_t& at) {
    const unsigned first = content.u8(at++);
    std::uint64_t value = 0;
    unsigned mask = 0x80;
    for (unsigned i = 0; i < 8; ++i, mask >>= 1) {
        if ((first & mask) == 0) return value | std::uint64_t{first & (mask - 1)} << (8 * i);
        value |= std::uint64_t{content.u8(at++)} << (8 * i);
    }
    return value;
}

// Where a stream of LZMA2 ends, which is made of chunks that tell their sizes; 0 where none stands, or it is broken.
std::uint64_t end_of_lzma2(Reader& content, std::uint64_t at) {
    for (bool is_first = true; content.holds(at, 1) && content.ok(); is_first = false) {
        const unsigned control = content.u8(at);
        if (control == 0) return is_first ? 0 : at + 1;
        if ((is_first && control != 1 && control < 0xE0) || (control > 2 && control < 0x80)) return 0;
        if (control < 0x80)
            at += 3 + std::uint64_t{content.u16be(at + 1)} + 1;
        else
            at += 5 + (control >= 0xC0 ? 1 : 0) + std::uint64_t{content.u16be(at + 3)} + 1;
    }
    return 0;
}

class SevenZipMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "7z";
        const Measured found = measured(file_, "7z", bench_);
        if (found.is_whole() && file_.holes.empty()) {
            done_.unit = "archives";
            done_.kept = done_.of = 1;
            done_.what.emplace_back("what is packed in it is not unpacked here: only its directory was checked");
            return as_it_is(file_, bench_, std::move(done_));
        }
        const bool has_start =
            content_.has(0, kMark.substr(0, 6)) && formats::crc32_of(content_, 12, 20) == content_.u32le(8);
        if (!has_start)
            if (const auto directory = find_directory()) return with_new_start(*directory);
        return by_content();
    }

  private:
    // The directory is the last thing in an archive, and begins where the packed streams end that it tells of first.
    std::optional<std::uint64_t> find_directory() {
        const std::uint64_t size = content_.size();
        for (std::uint64_t at = size; at-- > kStart && size - at < kLargestDirectory && content_.ok();) {
            const unsigned first = content_.u8(at);
            std::uint64_t from = at + 1;
            if (first == 0x01 && content_.u8(from) == 0x04)
                ++from;
            else if (first != 0x17)
                continue;
            if (content_.u8(from++) != 0x06) continue;
            std::uint64_t end = kStart + number(content_, from);
            const std::uint64_t streams = number(content_, from);
            if (streams == 0 || streams > 4096 || content_.u8(from++) != 0x09) continue;
            for (std::uint64_t i = 0; i < streams && end <= at; ++i) end += number(content_, from);
            // A directory that is packed itself lies between the streams and what tells of it.
            if (end == at) return at;
        }
        return std::nullopt;
    }

    Result<Mended> with_new_start(std::uint64_t directory) {
        const std::uint64_t length = content_.size() - directory;
        std::string start = little<std::uint64_t>(directory - kStart) + little<std::uint64_t>(length) +
                            little32(formats::crc32_of(content_, directory, length));
        start = std::string(kMark) + little32(crc32(std::as_bytes(std::span(start)))) + start;
        DREDGER_TRY(Output output, bench_.output());
        output.add(start);
        output.add(*file_.content, kStart, content_.size() - kStart);
        done_.unit = "bytes";
        done_.of = content_.size();
        done_.kept = content_.size() - kStart;
        done_.what.emplace_back("its first bytes were made anew");
        // Chunk follows chunk from the very first one on: nothing else was lost.
        const bool is_whole = end_of_lzma2(content_, kStart) != 0 && !file_.touches_hole(kStart, content_.size());
        if (is_whole)
            done_.kept = done_.of;
        else
            done_.what.emplace_back("what else was lost with them does not show");
        done_.outcome = is_whole ? Outcome::mended : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }

    Result<Mended> by_content() {
        done_.unit = "files";
        DREDGER_TRY(Output plain, bench_.output());
        std::uint64_t at = kStart;
        while (content_.holds(at, 2) && plain.size() < kMostUnpacked && !bench_.should_stop()) {
            const std::uint64_t end = unpack(at, plain);
            if (end == at) break;
            at = end;
        }
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        DREDGER_CHECK(plain.finish());
        if (const MediumPtr content = plain.content()) DREDGER_CHECK(tell_apart(*content));
        done_.of = done_.kept;
        done_.outcome = done_.kept > 0 ? Outcome::partly : Outcome::beyond;
        done_.what.emplace_back(
            done_.kept > 0 ? "its directory is lost: what was packed is told apart by its content, and has no names"
                           : "its directory is lost, and nothing of what is packed can be told apart");
        return std::move(done_);
    }

    // Adds what comes out of the stream at `at`; behind it, or where it broke. `at` itself where there is none.
    std::uint64_t unpack(std::uint64_t at, Output& plain) {
        const unsigned first = content_.u8(at);
        // What LZMA packs begins with a zero; its properties stand in the directory.
        const bool is_lzma2 = first == 1 || first >= 0xE0;
        if (!is_lzma2 && first != 0) return at;
        StreamDecoder decoder(is_lzma2 ? Packing::lzma2 : Packing::lzma);
        auto state = StreamDecoder::State::going;
        std::uint64_t from = at;
        const std::uint64_t sound = first_hole(file_.holes, at, content_.size());
        formats::each_span(content_, at, sound - at, [&](std::span<const std::byte> bytes) {
            if (state != StreamDecoder::State::going || plain.size() >= kMostUnpacked || bench_.should_stop()) return;
            std::size_t used = 0;
            state = decoder.feed(bytes, used, [&](std::span<const std::byte> out) { plain.add(out); });
            from += used;
        });
        return state == StreamDecoder::State::ended ? from : std::max(from, at + 1);
    }

    struct Piece {
        std::uint64_t length = 0;  // bytes; 0: none begins here
        std::string_view extension;
    };
    // What begins at a place and can be measured to its end.
    Piece measured_at(const Medium& plain, Reader& reader, std::uint64_t at) const {
        const std::string head = reader.text(at, 1024);
        const Format* format = format_with_head(ByteView(std::as_bytes(std::span(head))));
        if (format != nullptr) format = measurer_of(*format);
        if (format == nullptr) return {};
        Budget budget = bench_.budget();
        Reader whole(plain, budget);
        Reader there = whole.within(at);
        const Measured found = measure(*format, there);
        if (!found.is_whole()) return {};
        if (const Format* finer = format_named(found.format)) format = finer;
        return {found.length, format->extensions.front()};
    }

    // Text of at least so many bytes from a place on, up to where it stops being some or something else begins.
    Piece text_at(const Medium& plain, Reader& reader, std::uint64_t at, std::uint64_t least) const {
        constexpr std::uint64_t kLookedBack = 128;  // bytes of the next file that may be text
        std::uint64_t end = formats::end_of_characters(reader, at);
        if (end - at < least) return {};
        for (std::uint64_t next = end - std::min(kLookedBack, end - at - 1); next < end; ++next)
            if (measured_at(plain, reader, next).length > end - next) end = next;
        return {end - at, "txt"};
    }

    // Files follow each other: those that can be measured to their end are saved, and text.
    Result<void> tell_apart(const Medium& plain) {
        constexpr std::size_t kMost = 10'000;
        constexpr std::uint64_t kLeastText = 64, kLeastStrayText = 1024;  // bytes
        constexpr std::uint64_t kMostLost = 4 << 20;  // bytes in which no file begins, after which none is looked for
        std::uint64_t lost = 0;
        std::uint64_t behind = 0;  // the file before
        for (std::uint64_t at = 0; at < plain.size() && done_.kept < kMost && lost < kMostLost;) {
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            Budget budget = bench_.budget();
            Reader reader(plain, budget);
            Piece piece;
            for (; reader.ok() && at < plain.size() && lost < kMostLost; ++at, ++lost) {
                piece = measured_at(plain, reader, at);
                if (piece.length == 0) piece = text_at(plain, reader, at, at == behind ? kLeastText : kLeastStrayText);
                if (piece.length != 0) break;
            }
            if (piece.length == 0) continue;
            DREDGER_TRY(Output output, bench_.output());
            output.add(plain, at, piece.length);
            DREDGER_CHECK(output.finish());
            done_.beside.push_back({fmt::format(" (file {}).{}", ++done_.kept, piece.extension), std::move(output)});
            behind = at += piece.length;
        }
        return {};
    }
};

}  // namespace

const Mender& seven_zip_mender() {
    static const Mender mender = {
        "7z", {"7z"}, "beginning, files without names", nullptr, [](const Damaged& file, Workbench& bench) {
            return SevenZipMending(file, bench).run();
        }};
    return mender;
}

}  // namespace dredger::repairing

// Streams of frames, each of which shows by itself that it is one: sound of MPEG (with its tags), AAC in ADTS, AC-3,
// FLAC, transport and program streams. What lies between them is left out.
#include <algorithm>
#include <boost/crc.hpp>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/film/bit_reader.h"
#include "repairing/film/data_window.h"
#include "repairing/film/sample_syntax.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using Bytes = std::span<const std::uint8_t>;

constexpr std::uint64_t kLeastFrames = 8;     // that show what it is, where its name does not
constexpr std::uint64_t kSearched = 1 << 20;  // bytes

std::size_t mpeg_sound(Bytes bytes) {
    FilmTrack track;
    track.codec = ".mp3";
    static const auto syntax = syntax_of(track);
    return syntax->length(bytes);
}

std::size_t ac3(Bytes bytes) {
    FilmTrack track;
    track.codec = "ac-3";
    static const auto syntax = syntax_of(track);
    return syntax->length(bytes);
}

// ISO/IEC 14496-3, 1.A.2.2.
std::size_t adts(Bytes bytes) {
    if (bytes.size() < 7 || bytes[0] != 0xFF || (bytes[1] & 0xF6U) != 0xF0 || (bytes[2] >> 2 & 15U) > 12) return 0;
    const std::size_t length = (bytes[3] & 3U) << 11 | std::size_t{bytes[4]} << 3 | bytes[5] >> 5;
    return length >= 7 && length <= bytes.size() ? length : 0;
}

// ISO/IEC 13818-1, 2.4.3.2; with four bytes of time in front of each packet on discs.
std::size_t packet(Bytes bytes) { return bytes.size() >= 188 && bytes[0] == 0x47 && (bytes[3] & 0x30U) != 0 ? 188 : 0; }
std::size_t timed_packet(Bytes bytes) {
    return bytes.size() >= 192 && bytes[4] == 0x47 && (bytes[7] & 0x30U) != 0 ? 192 : 0;
}

// ISO/IEC 13818-1, 2.5.3, and ISO/IEC 11172-1, 2.4.3: a pack's header, or a packet with its length; the end code, too.
// Zeros may stand in front of each.
std::size_t program_packet(Bytes bytes) {
    constexpr std::size_t kMostZeros = 256;
    std::size_t zeros = 0;
    while (zeros < kMostZeros && bytes.size() > 2 && bytes[0] == 0 && bytes[1] == 0 && bytes[2] == 0) {
        bytes = bytes.subspan(1);
        ++zeros;
    }
    if (bytes.size() < 4 || bytes[0] != 0 || bytes[1] != 0 || bytes[2] != 1) return 0;
    const unsigned id = bytes[3];
    if (id == 0xB9) return zeros + 4;
    if (id == 0xBA && bytes.size() >= 14 && (bytes[4] & 0xC4U) == 0x44 && (bytes[13] & 0xF8U) == 0xF8)
        return zeros + 14 + (bytes[13] & 7U);
    if (id == 0xBA && bytes.size() >= 12 && (bytes[4] & 0xF1U) == 0x21) return zeros + 12;
    if (id < 0xBB || bytes.size() < 6) return 0;
    const std::size_t length = 6 + (std::size_t{bytes[4]} << 8 | bytes[5]);
    return length > 6 && length <= bytes.size() ? zeros + length : 0;
}

// The checksums of headers and of frames (RFC 9639, 9.1.8 and 9.3).
using HeaderCrc = boost::crc_optimal<8, 0x07, 0, 0, false, false>;
using FrameCrc = boost::crc_optimal<16, 0x8005, 0, 0, false, false>;

template <class Crc>
unsigned crc_of(Bytes bytes) {
    Crc crc;
    crc.process_bytes(bytes.data(), bytes.size());
    return crc.checksum();
}

// RFC 9639, 9.1: the header of a frame has a checksum of its own. Its bytes; 0: there is none.
std::size_t flac_header(Bytes bytes) {
    if (bytes.size() < 16 || bytes[0] != 0xFF || (bytes[1] & 0xFEU) != 0xF8) return 0;
    const unsigned block = bytes[2] >> 4;
    const unsigned rate = bytes[2] & 15U;
    if (block == 0 || rate == 15 || (bytes[3] & 1U) != 0 || bytes[3] >> 4 > 10) return 0;
    std::size_t at = 4;
    const unsigned first = bytes[at];
    const unsigned following = first < 0x80 ? 0 : static_cast<unsigned>(__builtin_clz(~(first << 24))) - 1;
    if (first >= 0x80 && (following == 0 || following > 6)) return 0;
    at += 1 + following;
    at += block == 6 ? 1 : block == 7 ? 2 : 0;
    at += rate == 12 ? 1 : rate == 13 || rate == 14 ? 2 : 0;
    return crc_of<HeaderCrc>(bytes.first(at)) == bytes[at] ? at + 1 : 0;
}

// A frame ends where its checksum says so, in front of the next one.
std::size_t flac(Bytes bytes) {
    constexpr std::size_t kLongest = 512 << 10;
    const std::size_t header = flac_header(bytes);
    if (header == 0) return 0;
    const std::size_t most = std::min(bytes.size(), kLongest);
    for (std::size_t end = header + 2; end <= most; ++end) {
        if (end < bytes.size() && (bytes[end] != 0xFF || flac_header(bytes.subspan(end)) == 0)) continue;
        const unsigned sum = crc_of<FrameCrc>(bytes.first(end - 2));
        if (bytes[end - 2] == sum >> 8 && bytes[end - 1] == (sum & 0xFFU)) return end;
    }
    return 0;
}

struct Kind {
    std::string_view format;
    std::string_view unit;
    std::size_t (*length)(Bytes);
    // The last one in front of damage is believed: it has a checksum, or one size as all others.
    bool ends_surely;
};
constexpr Kind kKinds[] = {
    {"mp3", "frames", mpeg_sound, false},     {"aac", "frames", adts, false},  {"ac3", "frames", ac3, false},
    {"flac", "frames", flac, true},           {"ts", "packets", packet, true}, {"mts", "packets", timed_packet, true},
    {"mpg", "packets", program_packet, false}};

const Kind* kind_named(std::string_view format) {
    const auto found =
        std::find_if(std::begin(kKinds), std::end(kKinds), [&](const Kind& kind) { return kind.format == format; });
    return found == std::end(kKinds) ? nullptr : found;
}

// How many frames follow each other, of a few.
std::uint64_t frames_at(DataWindow& window, std::uint64_t at, const Kind& kind, std::uint64_t most) {
    std::uint64_t count = 0;
    while (count < most) {
        const std::size_t length = kind.length(window.from(at, 1 << 20));
        if (length == 0) break;
        at += length;
        ++count;
    }
    return count;
}

// The kind of what begins somewhere near the start; null: none.
const Kind* kind_in(const Damaged& file) {
    DataWindow window(*file.content, file.content->size());
    for (const Kind& kind : kKinds)
        for (std::uint64_t at = 0; at < std::min<std::uint64_t>(kSearched / 4, window.end()); ++at)
            if (frames_at(window, at, kind, kLeastFrames) == kLeastFrames) return &kind;
    return nullptr;
}

class FramedMending : FileMending {
  public:
    FramedMending(const Damaged& file, Workbench& bench)
        : FileMending(file, bench), window_(*file.content, file.content->size()) {}

    Result<Mended> run() {
        const Format* named = format_with_extension(extension_of(file_.name));
        const Kind* kind = named == nullptr ? nullptr : kind_named(named->name);
        if (const Kind* seen = kind_in(file_); seen != nullptr) kind = seen;
        if (kind == nullptr) {
            done_.what.emplace_back("none of its frames is to be found");
            return std::move(done_);
        }
        done_.format = kind->format;
        done_.unit = kind->unit;
        DREDGER_TRY(Output output, bench_.output());
        const std::uint64_t start = head(*kind, output);
        if (!has_head_) return std::move(done_);
        DREDGER_CHECK(walk(*kind, start, output));
        // Nothing but its frames tells whether such a stream is whole.
        const bool is_whole = lost_ == 0 && reference_.empty() && file_.holes.empty();
        done_.of = done_.kept;
        if (done_.kept == 0) {
            done_.what.emplace_back("none of its frames is to be found");
            return std::move(done_);
        }
        if (lost_ > 0)
            done_.what.push_back(fmt::format("{} bytes at {} belong to no whole frame and are left out", lost_,
                                             places_ == 1 ? "one place" : fmt::format("{} places", places_)));
        done_.outcome = is_whole ? Outcome::whole : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }

  private:
    // What stands in front of the frames and belongs to them: tags, and what FLAC says of its stream.
    std::uint64_t head(const Kind& kind, Output& output) {
        std::uint64_t at = 0;
        if (content_.has(0, "ID3"sv) && content_.holds(0, 10)) {
            std::uint64_t length = 0;
            for (unsigned i = 6; i < 10; ++i) length = length << 7 | (content_.u8(i) & 127U);
            at = std::min(content_.size(), 10 + length);
        }
        if (kind.format == "flac") {
            const auto stream = [](Reader& content, std::uint64_t from) -> std::uint64_t {
                if (!content.has(from, "fLaC"sv) || (content.u8(from + 4) & 127U) != 0 || content.u24be(from + 5) != 34)
                    return 0;
                std::uint64_t end = from + 4;
                bool is_last = false;
                while (!is_last && content.holds(end, 4)) {
                    is_last = (content.u8(end) & 128U) != 0;
                    if ((content.u8(end) & 127U) > 6 && (content.u8(end) & 127U) != 127) return 0;
                    end += 4 + content.u24be(end + 1);
                }
                return content.holds(0, end) ? end : 0;
            };
            if (const std::uint64_t end = stream(content_, at); end != 0) {
                output.add(*file_.content, 0, end);
                return end;
            }
            for (const Reference& reference : bench_.references()) {
                Budget budget = bench_.budget();
                Reader theirs(*reference.content, budget);
                const std::uint64_t end = stream(theirs, 0);
                if (end == 0) continue;
                // How long it is and its sum are those of the reference: 0 stands for not known (8.2).
                output.add(*reference.content, 0, 4);
                std::string information = theirs.text(4, 38);
                information[0] = static_cast<char>(0x80);
                information[17] = static_cast<char>(information[17] & 0xF0);
                std::fill(information.begin() + 18, information.end(), '\0');
                std::fill(information.begin() + 8, information.begin() + 14, '\0');
                output.add(information);
                reference_ = reference.name;
                done_.what.push_back("what it says of its stream was taken from " + reference.name);
                return 0;
            }
            has_head_ = false;
            done_.outcome = without_reference();
            done_.what.emplace_back("its beginning is lost: another recording of the same device would help");
            return 0;
        }
        output.add(*file_.content, 0, at);
        return at;
    }

    Result<void> walk(const Kind& kind, std::uint64_t at, Output& output) {
        bool in_step = false;
        while (at < window_.end()) {
            if (at % 4096 == 0 && bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            const std::size_t length = kind.length(window_.from(at, 1 << 20));
            const bool goes_on = length > 0 && (at + length == window_.end() || is_tail(at + length) ||
                                                kind.length(window_.from(at + length, 1 << 20)) > 0);
            if (length > 0 && (in_step || goes_on) && (goes_on || frames_before_ > 0)) {
                if (!goes_on && !kind.ends_surely) {
                    step_out(at, in_step);
                    continue;
                }
                if (!file_.touches_hole(at, length)) {
                    output.add(*file_.content, at, length);
                    ++done_.kept;
                    ++frames_before_;
                } else {
                    lost_ += length;
                }
                at += length;
                in_step = true;
                continue;
            }
            if (is_tail(at)) {
                output.add(*file_.content, at, window_.end() - at);
                return {};
            }
            step_out(at, in_step);
        }
        return {};
    }

    void step_out(std::uint64_t& at, bool& in_step) {
        if (in_step || lost_ == 0) ++places_;
        in_step = false;
        ++lost_;
        ++at;
    }

    // Tags behind the sound.
    bool is_tail(std::uint64_t at) {
        return (content_.has(at, "TAG"sv) && window_.end() - at == 128) || content_.has(at, "APETAGEX"sv) ||
               content_.has(at, "LYRICSBEGIN"sv);
    }

    DataWindow window_;
    std::string reference_;
    bool has_head_ = true;
    std::uint64_t lost_ = 0, places_ = 0, frames_before_ = 0;
};

}  // namespace

const Mender& framed_mender() {
    static const Mender mender = {
        "streams of frames: MP3, AAC, AC-3, FLAC, transport and program streams",
        {"mp3", "aac", "ac3", "flac", "ts", "mts", "mpg"},
        "foreign bytes, beginning",
        [](const Damaged& file) { return kind_in(file) != nullptr ? 20U : 0U; },
        [](const Damaged& file, Workbench& bench) { return FramedMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing

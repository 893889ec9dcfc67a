// Films and sound of cameras, broadcast and discs as plain streams: MXF (SMPTE ST 377-1), RealMedia ("RealMedia File
// Format"), DV (IEC 61834, SMPTE ST 314), AC-3 and E-AC-3 (ETSI TS 102 366), DTS (ETSI TS 102 114), H.264 and HEVC byte
// streams (ITU-T H.264 and H.265, Annex B).
#include <algorithm>
#include <array>
#include <boost/crc.hpp>

#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::string_view kLabel = "\x06\x0E\x2B\x34"sv;

struct Klv {
    std::uint64_t end = 0;  // 0: there is none
    bool is_last = false;
};

Klv klv_at(Reader& content, std::uint64_t at) {
    if (!content.has(at, kLabel) || !content.holds(at, 17)) return {};
    const unsigned first = content.u8(at + 16);
    std::uint64_t length = first, head = 17;
    if (first > 0x80) {
        const unsigned bytes = first & 0x7FU;
        if (bytes > 8 || !content.holds(at, 17 + bytes)) return {};
        length = 0;
        for (unsigned i = 0; i < bytes; ++i) length = length << 8 | content.u8(at + 17 + i);
        head += bytes;
    } else if (first == 0x80) {
        return {};
    }
    if (length > std::uint64_t{1} << 44) return {};
    const bool is_index = content.has(at + 4, "\x02\x05\x01\x01\x0D\x01\x02\x01\x01\x11"sv);
    return {at + head + length, is_index};
}

Measured measure_mxf(Reader& content) {
    std::uint64_t at = 0;
    unsigned triplets = 0;
    bool has_footer = false;
    for (; content.holds(at, 17); ++triplets) {
        const Klv here = klv_at(content, at);
        if (here.end == 0) break;
        // The footer's partition; a file without an index of partitions ends with what follows it.
        has_footer = has_footer || content.has(at + 4, "\x02\x05\x01\x01\x0D\x01\x02\x01\x01\x04"sv);
        if (!content.holds(0, here.end)) return broken_between(at, content.size(), "its end is missing", here.end);
        at = here.end;
        if (here.is_last) return whole(at, Proof::chain);
    }
    if (triplets < 2) return nonsense();
    return has_footer ? whole(at, Proof::chain) : broken(at, "its footer is missing");
}

Measured measure_realmedia(Reader& content) {
    constexpr std::string_view kChunks = ".RMF PROP MDPR CONT DATA INDX RMMD RMJE RJMD";
    std::uint64_t at = 0;
    bool has_data = false;
    while (content.holds(at, 8)) {
        const std::string type = content.text(at, 4);
        const std::uint64_t size = content.u32be(at + 4);
        if (kChunks.find(type) == std::string_view::npos || size < 8) break;
        if (!content.holds(at, size)) return broken_between(at, content.size(), "its end is missing", at + size);
        has_data = has_data || type == "DATA";
        at += size;
    }
    return has_data ? whole(at, Proof::chain) : nonsense();
}

// A frame is of 10 sequences (525 lines) or 12 (625 lines), each of 150 blocks of 80 bytes whose first three tell where
// they stand.
bool is_dv_frame(Reader& content, std::uint64_t at, unsigned sequences) {
    constexpr std::uint64_t kSequence = 12'000;
    if (!content.holds(at, sequences * kSequence)) return false;
    for (unsigned s = 0; s < sequences; ++s) {
        const std::uint64_t start = at + s * kSequence;
        if (content.u8(start) >> 5 != 0 || content.u8(start + 1) >> 4 != s || content.u8(start + 80) >> 5 != 1 ||
            content.u8(start + 240) >> 5 != 2 || content.u8(start + 480) >> 5 != 3 || content.u8(start + 560) >> 5 != 4)
            return false;
    }
    return true;
}

Measured measure_dv(Reader& content) {
    const unsigned sequences = (content.u8(3) & 0x80U) != 0 ? 12 : 10;
    const std::uint64_t frame = sequences * std::uint64_t{12'000};
    std::uint64_t at = 0;
    while (is_dv_frame(content, at, sequences)) at += frame;
    if (at == 0) return nonsense();
    if (content.holds(at, 4) && content.has(at, "\x1F\x07\0"sv) && !content.holds(at, frame))
        return broken(at, "its last frame is cut");
    return open_ended(at, Proof::chain);
}

// ETSI TS 102 366, 4.4.1.4: 16-bit words of a frame, at 32 kHz; 48 kHz have two thirds of it.
std::uint64_t ac3_frame(Reader& content, std::uint64_t at) {
    constexpr std::array<unsigned, 19> kRates = {32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                                 192, 224, 256, 320, 384, 448, 512, 576, 640};
    if (!content.holds(at, 8) || content.u16be(at) != 0x0B77) return 0;
    const unsigned id = content.u8(at + 5) >> 3;
    if (id > 10 && id <= 16) return (std::uint64_t{content.u16be(at + 2) & 0x7FFU} + 1) * 2;
    const unsigned code = content.u8(at + 4), frequency = code >> 6, size = code & 0x3FU;
    if (id > 10 || frequency == 3 || size >= 38) return 0;
    const std::uint64_t rate = kRates[size / 2];
    return frequency == 0   ? rate * 4
           : frequency == 2 ? rate * 6
                            : (rate * 1000 * 1536 / 8 / 44100 / 2 + (size & 1U)) * 2;
}

// The checksum over all of a frame behind its sync word gives zero.
bool is_ac3_whole(Reader& content, std::uint64_t at, std::uint64_t length) {
    boost::crc_optimal<16, 0x8005, 0, 0, false, false> crc;
    each_span(content, at + 2, length - 2,
              [&](std::span<const std::byte> bytes) { crc.process_bytes(bytes.data(), bytes.size()); });
    return crc.checksum() == 0;
}

Measured measure_ac3(Reader& content) {
    constexpr unsigned kLeastFrames = 4;
    std::uint64_t at = 0;
    unsigned frames = 0;
    while (const std::uint64_t length = ac3_frame(content, at)) {
        if (!content.holds(at, length)) return frames < kLeastFrames ? nonsense() : broken(at, "its last frame is cut");
        if (!is_ac3_whole(content, at, length))
            return frames < kLeastFrames ? nonsense()
                                         : broken_between(at, at + length, "the checksum of a frame is off");
        at += length;
        ++frames;
    }
    return frames < kLeastFrames ? nonsense()
                                 : open_ended(at, Proof::checksums, content.u8(5) >> 3 > 10 ? "eac3" : "ac3");
}

Measured measure_dts(Reader& content) {
    constexpr unsigned kLeastFrames = 4;
    std::uint64_t at = 0;
    unsigned frames = 0;
    const std::uint64_t traits = content.u32be(8) & 0x03FF0000U;
    while (content.has(at, "\x7F\xFE\x80\x01"sv) && content.holds(at, 12)) {
        const std::uint64_t length = ((content.u32be(at + 4) >> 4 & 0x3FFFU) + 1);
        if (length < 96 || (content.u32be(at + 8) & 0x03FF0000U) != traits) break;
        std::uint64_t end = at + length;
        // An extension follows its core frame.
        if (content.has(end, "\x64\x58\x20\x25"sv) && content.holds(end, 10)) {
            const bool is_wide = (content.u8(end + 5) & 0x20U) != 0;
            const std::uint64_t word = std::uint64_t{content.u32be(end + 5)} << 8 | content.u8(end + 9);
            end += (is_wide ? word >> 5 & 0xFFFFFU : word >> 13 & 0xFFFFU) + 1;
        }
        if (!content.holds(0, end)) return frames < kLeastFrames ? nonsense() : broken(at, "its last frame is cut");
        at = end;
        ++frames;
    }
    return frames < kLeastFrames ? nonsense() : open_ended(at, Proof::chain);
}

// Units behind start codes; within one no three bytes stand that could begin the next.
template <class IsUnit>
Measured measure_units(Reader& content, const IsUnit& is_unit) {
    constexpr unsigned kLeastUnits = 4;
    std::uint64_t at = 0, end = 0;
    unsigned units = 0;
    for (;;) {
        std::uint64_t zeros = at;
        while (zeros - at < 4 && content.holds(zeros, 1) && content.u8(zeros) == 0) ++zeros;
        if (zeros - at < 2 || !content.has(zeros, "\x01") || !is_unit(zeros + 1)) break;
        // Behind two zeros stands more than two within a unit.
        auto next = content.find("\0\0"sv, zeros + 3, content.size());
        while (next && content.holds(*next + 2, 1) && content.u8(*next + 2) > 2)
            next = content.find("\0\0"sv, *next + 2, content.size());
        end = next ? *next : content.size();
        // What three zeros follow is padding, or the zero before a longer start code.
        at = end;
        ++units;
        if (!next) break;
    }
    if (units < kLeastUnits) return nonsense();
    return open_ended(end, Proof::chain);
}

Measured measure_h264(Reader& content) {
    return measure_units(content, [&](std::uint64_t at) {
        const unsigned head = content.holds(at, 1) ? content.u8(at) : 0xFF;
        const unsigned type = head & 31U;
        return (head & 0x80U) == 0 && type >= 1 && type <= 21;
    });
}

Measured measure_hevc(Reader& content) {
    return measure_units(content, [&](std::uint64_t at) {
        if (!content.holds(at, 2)) return false;
        const unsigned type = content.u8(at) >> 1;
        return (content.u8(at) & 0x80U) == 0 && type <= 40 && (content.u8(at + 1) & 7U) != 0;
    });
}

}  // namespace

const std::vector<Format>& broadcast() {
    static const std::vector<Format> family = {
        {.name = "mxf",
         .kind = Kind::video,
         .extensions = {"mxf"},
         .signatures = {{{0, "\x06\x0E\x2B\x34\x02\x05\x01\x01\x0D\x01\x02\x01\x01\x02"sv}}},
         .measure = measure_mxf,
         .ending = "its index of partitions, or its footer",
         .checked = "the chain of triplets"},
        {.name = "rm",
         .kind = Kind::video,
         .extensions = {"rm", "rmvb", "ra"},
         .signatures = {{{0, ".RMF\0\0\0"sv}}},
         .measure = measure_realmedia,
         .ending = "its last chunk",
         .checked = "the chain of chunks"},
        {.name = "dv",
         .kind = Kind::video,
         .extensions = {"dv", "dif"},
         .signatures = {{{0, "\x1F\x07\0"sv}}},
         .measure = measure_dv,
         .ending = "its last frame",
         .checked = "the sequences of every frame"},
        {.name = "ac3",
         .kind = Kind::audio,
         .extensions = {"ac3"},
         .signatures = {{{0, "\x0B\x77"sv}}},
         .measure = measure_ac3,
         .ending = "its last frame",
         .checked = "the checksum of every frame"},
        {.name = "eac3",
         .kind = Kind::audio,
         .extensions = {"eac3", "ec3"},
         .signatures = {{{0, "\x0B\x77"sv}}},
         .told_by = "ac3"},
        {.name = "dts",
         .kind = Kind::audio,
         .extensions = {"dts"},
         .signatures = {{{0, "\x7F\xFE\x80\x01"sv}}},
         .measure = measure_dts,
         .ending = "its last frame",
         .checked = "the chain of frames"},
        {.name = "h264",
         .kind = Kind::video,
         .extensions = {"h264", "264", "avc", "h26l"},
         .signatures = {{{0, "\0\0\0\1\x67"sv}}, {{0, "\0\0\0\1\x09"sv}}, {{0, "\0\0\0\1\x27"sv}}},
         .is_loose = true,
         .measure = measure_h264,
         .ending = "its last unit",
         .checked = "the chain of units"},
        {.name = "hevc",
         .kind = Kind::video,
         .extensions = {"hevc", "h265", "265"},
         .signatures = {{{0, "\0\0\0\1\x40\1"sv}}, {{0, "\0\0\0\1\x46\1"sv}}},
         .is_loose = true,
         .measure = measure_hevc,
         .ending = "its last unit",
         .checked = "the chain of units"},
    };
    return family;
}

}  // namespace dredger::formats

// Frames of sound one behind the other: MPEG audio (ISO/IEC 11172-3, 13818-3) with ID3 tags (id3.org, 2.3 and 2.4), AAC
// in ADTS (ISO/IEC 14496-3, 1.A.2), AMR (RFC 4867, 5).
#include <array>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/families.h"
#include "formats/sound_tags.h"

namespace dredger::formats {
namespace {

constexpr unsigned kLeastFrames = 8;

struct Frame {
    std::uint64_t length = 0;  // bytes; 0: no frame
    unsigned traits = 0;       // what all frames of a file share
};

// ISO/IEC 11172-3, 2.4.1.3.
Frame frame_of(std::uint32_t head) {
    static constexpr unsigned kRates[2][3][16] = {
        {{0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448, 0},
         {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 0},
         {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0}},
        {{0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256, 0},
         {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0},
         {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0}}};
    static constexpr unsigned kFrequencies[] = {44100, 48000, 32000};
    const unsigned version = head >> 19 & 3U;  // 3: MPEG 1, 2: MPEG 2, 0: 2.5
    const unsigned layer = 4 - (head >> 17 & 3U);
    const unsigned frequency_index = head >> 10 & 3U;
    if (head >> 21 != 0x7FF || version == 1 || layer == 4 || frequency_index == 3 || (head & 3U) == 2) return {};
    const unsigned rate = kRates[version == 3 ? 0 : 1][layer - 1][head >> 12 & 15U] * 1000;
    if (rate == 0) return {};
    const unsigned frequency = kFrequencies[frequency_index] >> (version == 3 ? 0 : version == 2 ? 1 : 2);
    const unsigned padding = head >> 9 & 1U;
    const unsigned samples = layer == 3 && version != 3 ? 72 : 144;
    const std::uint64_t length =
        layer == 1 ? (12ULL * rate / frequency + padding) * 4 : std::uint64_t{samples} * rate / frequency + padding;
    // Version, layer and frequency stay the same throughout.
    return {length, head & 0x001E0C00U};
}

std::uint64_t id3_length(Reader& content, std::uint64_t at) {
    if (!content.has(at, "ID3") || content.u8(at + 3) > 4 || content.u8(at + 3) < 2) return 0;
    std::uint64_t length = 0;
    for (unsigned i = 6; i < 10; ++i) {
        if (content.u8(at + i) > 127) return 0;
        length = length << 7 | content.u8(at + i);
    }
    return 10 + length + ((content.u8(at + 5) & 0x10U) != 0 ? 10 : 0);
}

// A file without a tag begins with a frame that borrows nothing from frames before it.
unsigned bid_mp3(ByteView head) {
    if (head.has(0, "ID3")) return head.size() > 4 && std::to_integer<unsigned>(head.bytes()[3]) <= 4 ? 32 : 0;
    if (head.size() < 16) return 0;
    const auto be32 = [&](std::size_t at) {
        std::uint32_t value = 0;
        for (std::size_t i = 0; i < 4; ++i) value = value << 8 | std::to_integer<std::uint32_t>(head.bytes()[at + i]);
        return value;
    };
    const Frame first = frame_of(be32(0));
    if (first.length == 0) return 0;
    const bool is_layer_3 = (be32(0) >> 17 & 3U) == 1;
    const bool is_mpeg_1 = (be32(0) >> 19 & 3U) == 3;
    const std::size_t side = (be32(0) >> 16 & 1U) != 0 ? 4 : 6;
    const unsigned borrowed = is_mpeg_1 ? be32(side) >> 23 : be32(side) >> 24;
    if (!is_layer_3 || borrowed != 0) return 0;
    if (first.length + 4 > head.size()) return 12;
    const Frame second = frame_of(be32(static_cast<std::size_t>(first.length)));
    return second.length != 0 && second.traits == first.traits ? 30 : 0;
}

Measured measure_mp3(Reader& content) {
    constexpr std::uint64_t kSector = 512;
    constexpr unsigned kClear = 16;  // frames
    std::uint64_t at = 0;
    while (const std::uint64_t tag = id3_length(content, at)) at += tag;
    // Writers leave room behind the tag that its length does not count.
    for (unsigned i = 0; i < 4096 && at > 0 && content.holds(at, 1) && content.u8(at) == 0; ++i) ++at;
    const Frame first = frame_of(content.u32be(at));
    unsigned frames = 0;
    for (; content.holds(at, 4); ++frames) {
        const Frame frame = frame_of(content.u32be(at));
        if (frame.length == 0 || frame.traits != first.traits) break;
        if (!content.holds(at, frame.length))
            return frames < kLeastFrames ? nonsense() : broken(at, "its end is missing");
        at += frame.length;
    }
    if (frames < kLeastFrames) return nonsense();
    const std::uint64_t end = behind_sound_tags(content, at);
    if (end > at) return whole(std::min(end, content.size()), Proof::structure);
    // Behind a file's end its last sector is filled with zeros, or another one's frames are not in the middle of one.
    const std::uint64_t sector_end = divide_up(at, kSector) * kSector;
    if (frames >= kClear && content.holds(at, 1) && at < sector_end && content.u8(at) != 0 &&
        !content.is_zeros(at, std::min(sector_end, content.size())))
        return broken(at, "its frames stop in the middle of a sector");
    return open_ended(at, Proof::structure);
}

std::string id3_text(Reader& content, std::uint64_t at, std::size_t length) {
    const unsigned encoding = content.u8(at);
    std::string raw = content.text(at + 1, std::min<std::size_t>(length, 512) - 1);
    std::string text;
    if (encoding == 1 || encoding == 2) {
        if (encoding == 2 || raw.starts_with("\xFE\xFF"))
            for (std::size_t i = 0; i + 1 < raw.size(); i += 2) std::swap(raw[i], raw[i + 1]);
        if (raw.starts_with("\xFF\xFE")) raw.erase(0, 2);
        text = utf16le_to_utf8(std::as_bytes(std::span(raw)));
    } else {
        text = encoding == 3 ? raw : code_page_to_utf8(std::as_bytes(std::span(raw)), CodePage::windows1252);
    }
    if (const auto end = text.find('\0'); end != std::string::npos) text.resize(end);
    return printable(text);
}

Description describe_mp3(Reader& content, std::uint64_t length) {
    Description said;
    std::string title, artist;
    const unsigned version = content.u8(3);
    const std::uint64_t end = std::min(id3_length(content, 0), length);
    if (version == 3 || version == 4) {
        for (std::uint64_t at = 10; at + 11 < end && content.u8(at) >= 'A';) {
            std::uint64_t size = content.u32be(at + 4);
            if (version == 4)
                size = (size >> 24 & 127U) << 21 | (size >> 16 & 127U) << 14 | (size >> 8 & 127U) << 7 | (size & 127U);
            if (size == 0 || size > end - at) break;
            if (content.has(at, "TIT2")) title = id3_text(content, at + 10, static_cast<std::size_t>(size));
            if (content.has(at, "TPE1")) artist = id3_text(content, at + 10, static_cast<std::size_t>(size));
            at += 10 + size;
        }
    }
    if (title.empty() && length > 128 && content.has(length - 128, "TAG")) {
        std::string raw = content.text(length - 125, 30);
        raw.resize(std::min(raw.find('\0'), raw.size()));
        title = printable(code_page_to_utf8(std::as_bytes(std::span(raw)), CodePage::windows1252));
    }
    while (title.ends_with(' ')) title.pop_back();
    said.title = title;
    if (!artist.empty()) said.facts.push_back({"artist", artist});
    return said;
}

Frame adts_frame(Reader& content, std::uint64_t at) {
    const std::uint32_t head = content.u32be(at);
    const unsigned frequency = head >> 10 & 15U;
    if ((head & 0xFFF60000U) != 0xFFF00000U || frequency > 12) return {};
    const std::uint64_t length = (head & 3U) << 11 | content.u24be(at + 4) >> 13;
    return {length >= 7 ? length : 0, head & 0xFFFFFFC0U & ~0x20000U};
}

unsigned bid_aac(ByteView head) {
    if (head.size() < 512 || head.bytes()[0] != std::byte{0xFF}) return 0;
    std::size_t at = 0;
    for (unsigned i = 0; i < 3; ++i) {
        if (at + 7 > head.size()) return i < 2 ? 0 : 20;
        const auto byte = [&](std::size_t n) { return std::to_integer<unsigned>(head.bytes()[at + n]); };
        if (byte(0) != 0xFF || (byte(1) & 0xF6U) != 0xF0 || (byte(2) >> 2 & 15U) > 12) return 0;
        const std::size_t length = (byte(3) & 3U) << 11 | byte(4) << 3 | byte(5) >> 5;
        if (length < 7) return 0;
        at += length;
    }
    return 36;
}

Measured measure_aac(Reader& content) {
    std::uint64_t at = 0;
    const Frame first = adts_frame(content, 0);
    unsigned frames = 0;
    for (; content.holds(at, 7); ++frames) {
        const Frame frame = adts_frame(content, at);
        if (frame.length == 0 || frame.traits != first.traits) break;
        if (!content.holds(at, frame.length))
            return frames < kLeastFrames ? nonsense() : broken(at, "its end is missing");
        at += frame.length;
    }
    return frames < kLeastFrames ? nonsense() : open_ended(behind_sound_tags(content, at), Proof::structure);
}

Measured measure_amr(Reader& content) {
    static constexpr std::uint8_t kNarrow[16] = {13, 14, 16, 18, 20, 21, 27, 32, 6, 0, 0, 0, 0, 0, 0, 1};
    static constexpr std::uint8_t kWide[16] = {18, 24, 33, 37, 41, 47, 51, 59, 61, 6, 0, 0, 0, 0, 1, 1};
    const bool wide = content.has(0, "#!AMR-WB\n");
    std::uint64_t at = wide ? 9 : 6;
    unsigned frames = 0;
    for (; content.holds(at, 1); ++frames) {
        const unsigned head = content.u8(at);
        const std::uint64_t length = (wide ? kWide : kNarrow)[head >> 3 & 15U];
        if ((head & 0x83U) != 0 || length == 0 || head == 0) break;
        if (!content.holds(at, length)) break;
        at += length;
    }
    return frames < 20 ? nonsense() : open_ended(at, Proof::structure);
}

constexpr std::string_view kEnding = "the last frame, and the tags behind it";
constexpr std::string_view kChecked = "the chain of frames";

}  // namespace

const std::vector<Format>& mpeg_audio() {
    static const std::vector<Format> family = {
        {.name = "mp3",
         .kind = Kind::audio,
         .extensions = {"mp3"},
         .signatures =
             {{{0, "ID3"sv}}, {{0, "\xFF\xFB"sv}}, {{0, "\xFF\xFA"sv}}, {{0, "\xFF\xF3"sv}}, {{0, "\xFF\xF2"sv}}},
         .bid = bid_mp3,
         .measure = measure_mp3,
         .describe = describe_mp3,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "aac",
         .kind = Kind::audio,
         .extensions = {"aac"},
         .signatures = {{{0, "\xFF\xF1"sv}}, {{0, "\xFF\xF9"sv}}, {{0, "\xFF\xF0"sv}}, {{0, "\xFF\xF8"sv}}},
         .bid = bid_aac,
         .measure = measure_aac,
         .ending = kEnding,
         .checked = kChecked},
        {.name = "amr",
         .kind = Kind::audio,
         .extensions = {"amr"},
         .signatures = {{{0, "#!AMR\n"sv}}, {{0, "#!AMR-WB\n"sv}}},
         .measure = measure_amr,
         .ending = "the last frame",
         .checked = kChecked},
    };
    return family;
}

}  // namespace dredger::formats

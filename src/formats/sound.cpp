// Sound that checks itself: FLAC (RFC 9639), Ogg (RFC 3533) with Vorbis and Opus; and MIDI files (RP-001).
#include <array>
#include <fmt/format.h>
#include <map>

#include "base/text.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

template <class T, T Polynomial>
constexpr std::array<T, 256> crc_table() {
    std::array<T, 256> table{};
    constexpr unsigned kBits = 8 * sizeof(T);
    for (unsigned i = 0; i < 256; ++i) {
        std::uint32_t crc = i << (kBits - 8);
        for (unsigned bit = 0; bit < 8; ++bit)
            crc = (crc & (1U << (kBits - 1))) != 0 ? crc << 1 ^ Polynomial : crc << 1;
        table[i] = static_cast<T>(crc);
    }
    return table;
}
constexpr auto kCrc8 = crc_table<std::uint8_t, 0x07>();
constexpr auto kCrc16 = crc_table<std::uint16_t, 0x8005>();
constexpr auto kCrc32 = crc_table<std::uint32_t, 0x04C11DB7>();

// Title and artist among the comments of Vorbis, as FLAC and Ogg have them.
void describe_comments(Reader& content, std::uint64_t at, std::uint64_t end, Description& said) {
    at += 4 + std::uint64_t{content.u32le(at)};
    const unsigned count = std::min<unsigned>(content.u32le(at), 256);
    at += 4;
    for (unsigned i = 0; i < count && at + 4 < end; ++i) {
        const std::uint64_t length = content.u32le(at);
        const std::string comment =
            content.text(at + 4, static_cast<std::size_t>(std::min<std::uint64_t>(length, 300)));
        const std::string name = folded(comment.substr(0, comment.find('=')));
        if (name == "title") said.title = printable(comment.substr(6));
        if (name == "artist") said.facts.push_back({"artist", printable(comment.substr(7))});
        at += 4 + length;
    }
}

struct FlacHeader {
    unsigned length = 0;        // bytes from the sync code to before its checksum; 0: there is none
    std::uint64_t samples = 0;  // of each channel in the frame
};

FlacHeader flac_header(Reader& content, std::uint64_t at) {
    if (!content.holds(at, 6)) return {};
    if ((content.u16be(at) & 0xFFFEU) != 0xFFF8) return {};
    const unsigned sizes = content.u8(at + 2);
    const unsigned channels = content.u8(at + 3);
    const unsigned block = sizes >> 4;
    const unsigned rate = sizes & 15U;
    if (block == 0 || rate == 15 || channels >> 4 > 10 || (channels & 1U) != 0 || (channels >> 1 & 7U) == 3) return {};
    FlacHeader header{4, 0};
    const unsigned lead = content.u8(at + 4);  // the number, coded as in UTF-8
    unsigned more = 0;
    while (more < 7 && (lead & (0x80U >> more)) != 0) ++more;
    header.length += more == 0 ? 1 : more;
    if (!content.holds(at, header.length + 3ULL)) return {};
    if (block == 1) header.samples = 192;
    if (block >= 2 && block <= 5) header.samples = 576ULL << (block - 2);
    if (block >= 8) header.samples = 256ULL << (block - 8);
    if (block == 6) header.samples = 1ULL + content.u8(at + header.length++);
    if (block == 7) {
        header.samples = 1ULL + content.u16be(at + header.length);
        header.length += 2;
    }
    if (rate == 12) header.length += 1;
    if (rate == 13 || rate == 14) header.length += 2;
    if (!content.holds(at, header.length + 1ULL)) return {};
    std::uint8_t crc = 0;
    for (unsigned i = 0; i < header.length; ++i) crc = kCrc8[crc ^ content.u8(at + i)];
    return crc == content.u8(at + header.length) ? header : FlacHeader{};
}

struct FlacFrame {
    std::uint64_t end = 0;  // 0: its checksum stands nowhere
    bool followed = false;  // by another frame
};

// With its checksum behind it a frame gives zero. That happens by chance too: so another frame must follow, or, for the
// last one, the zeros that fill a sector; else the first such place is taken.
FlacFrame flac_frame(Reader& content, std::uint64_t at, std::uint64_t limit) {
    constexpr std::uint64_t kSector = 512;
    FlacFrame frame;
    bool padded = false;
    std::uint16_t crc = 0;
    for (std::uint64_t p = at; p < limit;) {
        const auto here = content.some(p);
        if (here.empty()) break;
        for (const std::byte b : std::vector<std::byte>(here.begin(), here.end())) {
            crc = static_cast<std::uint16_t>(crc << 8 ^ kCrc16[crc >> 8 ^ std::to_integer<unsigned>(b)]);
            if (++p > limit) break;
            if (crc != 0 || p - at < 10) continue;
            if (flac_header(content, p).length != 0) return {p, true};
            const std::uint64_t filled = std::min((p / kSector + 1) * kSector, content.size());
            const bool is_padded =
                p == content.size() || (filled - p >= 4 && content.is_zeros(p, filled)) || content.has(p, "TAG");
            if (frame.end == 0 || (is_padded && !padded)) frame.end = p;
            padded = padded || is_padded;
        }
    }
    return frame;
}

Measured measure_flac(Reader& content) {
    std::uint64_t at = 4;
    std::uint64_t samples = 0;  // in all; 0: it does not say
    std::uint64_t most = 0;
    std::uint64_t unchecked = 0;  // bytes of words and covers
    for (bool last = false; !last;) {
        const unsigned head = content.u8(at);
        const std::uint64_t length = content.u24be(at + 1);
        if ((head & 0x7FU) > 6 || (at == 4 && ((head & 0x7FU) != 0 || length != 34)) || !content.holds(at, 4 + length))
            return nonsense();
        if (at == 4) {
            most = content.u24be(at + 11);
            samples = content.u64be(at + 14) & 0xFFFFFFFFFULL;
        }
        // Nothing checks what fills it, but that it is zeros.
        const bool is_filling = (head & 0x7FU) == 1;
        if (is_filling && !content.is_zeros(at + 4, at + 4 + length))
            return lone_head(at, at + 4 + length, "its filling is not empty");
        if (!is_filling && at != 4) unchecked += length;
        last = (head & 0x80U) != 0;
        at += 4 + length;
    }
    if (most == 0) most = 1 << 20;
    if (flac_header(content, at).length == 0) {
        // The description stands; where the frames are is another question.
        const bool is_described = samples != 0 && content.u24be(18) >> 4 != 0;
        return is_described ? lone_head(42, at, "the first frame is missing") : nonsense();
    }
    const std::uint64_t first = at;
    std::uint64_t so_far = 0;  // samples
    for (;;) {
        const std::uint64_t here = flac_header(content, at).samples;
        const FlacFrame frame = flac_frame(content, at, std::min(content.size(), at + most + 64));
        if (frame.followed) {
            at = frame.end;
            so_far += here;
            continue;
        }
        const bool is_last = samples == 0 || so_far + here == samples;
        if (frame.end != 0 && is_last) return whole(frame.end, proof_without(unchecked, frame.end));
        return at == first ? nonsense()
                           : broken_between(at, std::min(at + most, content.size()), "the checksum of a frame is off");
    }
}

Description describe_flac(Reader& content, std::uint64_t length) {
    Description said;
    const std::uint64_t rate = content.u24be(18) >> 4;
    if (rate != 0) said.facts.push_back({"duration", fmt::format("{} s", (content.u64be(18) & 0xFFFFFFFFFULL) / rate)});
    for (std::uint64_t at = 4; at + 4 < length && content.ok();) {
        const unsigned head = content.u8(at);
        const std::uint64_t size = content.u24be(at + 1);
        if ((head & 0x7FU) == 4) describe_comments(content, at + 4, at + 4 + size, said);
        if ((head & 0x80U) != 0) break;
        at += 4 + size;
    }
    return said;
}

std::uint64_t ogg_page(Reader& content, std::uint64_t at) {
    if (!content.has(at, "OggS") || content.u8(at + 4) != 0) return 0;
    const unsigned segments = content.u8(at + 26);
    std::uint64_t length = 27 + segments;
    for (unsigned i = 0; i < segments; ++i) length += content.u8(at + 27 + i);
    return content.holds(at, length) ? length : 0;
}

bool is_ogg_page_whole(Reader& content, std::uint64_t at, std::uint64_t length) {
    std::uint32_t crc = 0;
    for (std::uint64_t i = 0; i < length; ++i) {
        const unsigned byte = i >= 22 && i < 26 ? 0 : content.u8(at + i);
        crc = crc << 8 ^ kCrc32[crc >> 24 ^ byte];
    }
    return crc == content.u32le(at + 22);
}

Measured measure_ogg(Reader& content) {
    if ((content.u8(5) & 2U) == 0) return nonsense();  // the first page of a stream
    const std::string_view name = content.has(28, "OpusHead")       ? "opus"
                                  : content.has(28, "\x80theora"sv) ? "ogv"
                                                                    : "ogg";
    std::uint64_t at = 0;
    std::map<std::uint32_t, bool> ended;  // of each stream
    while (const std::uint64_t length = ogg_page(content, at)) {
        const unsigned flags = content.u8(at + 5);
        const std::uint32_t serial = content.u32le(at + 14);
        const bool is_first = (flags & 2U) != 0;
        const bool all_ended =
            !ended.empty() && std::all_of(ended.begin(), ended.end(), [](const auto& s) { return s.second; });
        if (all_ended && at > 0) break;
        if (!is_first && !ended.contains(serial)) break;
        if (!is_ogg_page_whole(content, at, length))
            return at == 0 ? nonsense() : broken_between(at, at + length, "the checksum of a page is off", 0, name);
        ended[serial] = (flags & 4U) != 0;
        at += length;
    }
    if (at == 0) return nonsense();
    const bool all_ended = std::all_of(ended.begin(), ended.end(), [](const auto& s) { return s.second; });
    return all_ended ? whole(at, Proof::checksums, name) : broken(at, "its last pages are missing", 0, name);
}

Description describe_ogg(Reader& content, std::uint64_t length) {
    Description said;
    const std::uint64_t second = ogg_page(content, 0);
    const std::uint64_t at = second + 27 + content.u8(second + 26);
    if (content.has(at, "\3vorbis")) describe_comments(content, at + 7, length, said);
    if (content.has(at, "OpusTags")) describe_comments(content, at + 8, length, said);
    return said;
}

Measured measure_midi(Reader& content) {
    const unsigned tracks = content.u16be(10);
    if (content.u16be(8) > 2 || tracks == 0) return nonsense();
    std::uint64_t at = 14;
    for (unsigned i = 0; i < tracks; ++i) {
        const std::uint64_t length = content.u32be(at + 4);
        if (!content.has(at, "MTrk") || !content.holds(at + 8, length))
            return i == 0 ? nonsense() : broken(std::min(at, content.size()), "a track is missing");
        if (length < 4 || content.u24be(at + 8 + length - 3) != 0xFF2F00)
            return i == 0 ? nonsense() : broken(at, "a track has no end");
        at += 8 + length;
    }
    return whole(at, Proof::chain);
}

}  // namespace

const std::vector<Format>& sound() {
    static const std::vector<Format> family = {
        {.name = "flac",
         .kind = Kind::audio,
         .extensions = {"flac"},
         .signatures = {{{0, "fLaC"sv}}},
         .measure = measure_flac,
         .describe = describe_flac,
         .ending = "the last frame",
         .checked = "the checksum of every frame"},
        {.name = "ogg",
         .kind = Kind::audio,
         .extensions = {"ogg", "oga"},
         .signatures = {{{0, "OggS\0"sv}}},
         .measure = measure_ogg,
         .describe = describe_ogg,
         .ending = "the last page of every stream",
         .checked = "the checksum of every page"},
        {.name = "opus",
         .kind = Kind::audio,
         .extensions = {"opus"},
         .signatures = {{{0, "OggS\0"sv}}},
         .told_by = "ogg"},
        {.name = "ogv",
         .kind = Kind::video,
         .extensions = {"ogv"},
         .signatures = {{{0, "OggS\0"sv}}},
         .told_by = "ogg"},
        {.name = "midi",
         .kind = Kind::audio,
         .extensions = {"mid", "midi"},
         .signatures = {{{0, "MThd\0\0\0\6"sv}}},
         .measure = measure_midi,
         .ending = "the last of its tracks",
         .checked = "the length and the end of every track"},
    };
    return family;
}

}  // namespace dredger::formats

// Sound that few programs write: Monkey's Audio (its SDK's headers), WavPack ("WavPack 4 & 5 Binary File / Block
// Format"), True Audio ("TTA1 Format Description"), Musepack 8 ("SV8 Specification"), AU (the header of Sun
// and NeXT), Wave64 (Sony), Core Audio (Apple's "Core Audio Format Specification"), Creative Voice; and modules:
// MOD, XM ("XM.TXT"), IT ("ITTECH.TXT"), S3M ("S3M.TXT").
#include <algorithm>
#include <fmt/format.h>

#include "base/checked.h"
#include "base/text.h"
#include "formats/families.h"
#include "formats/sound_tags.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

Measured measure_ape(Reader& content) {
    constexpr unsigned kFirstWithDescriptor = 3980;
    const unsigned version = content.u16le(4);
    if (version < kFirstWithDescriptor || version > 4100) return nonsense();
    const std::uint64_t descriptor = content.u32le(8), header = content.u32le(12), seek_table = content.u32le(16),
                        wave_header = content.u32le(20), wave_end = content.u32le(32);
    const std::uint64_t frames = content.u32le(24) | std::uint64_t{content.u32le(28)} << 32;
    if (descriptor < 52 || descriptor > 4096 || header < 24 || header > 4096 || seek_table % 4 != 0 ||
        frames > std::uint64_t{1} << 40)
        return nonsense();
    const std::uint64_t first = descriptor + header + seek_table + wave_header, end = first + frames + wave_end;
    // Each frame begins behind the one before it.
    const std::uint64_t table = descriptor + header;
    std::uint64_t before = 0;
    for (std::uint64_t i = 0; i < seek_table / 4 && content.ok(); ++i) {
        const std::uint64_t at = content.u32le(table + 4 * i);
        if (at == 0 && i > 0) break;
        if (at < before) return nonsense();
        before = at;
    }
    return sized(content, content.holds(0, end) ? behind_sound_tags(content, end) : end, Proof::chain);
}

// The parts of a block fill it: an id, and a length in words of one byte or of three.
bool wavpack_parts_fill(Reader& content, std::uint64_t at, std::uint64_t end) {
    while (at + 2 <= end) {
        const bool is_long = (content.u8(at) & 0x80U) != 0;
        at += is_long ? 4 + std::uint64_t{content.u24le(at + 1)} * 2 : 2 + std::uint64_t{content.u8(at + 1)} * 2;
    }
    return at == end;
}

Measured measure_wavpack(Reader& content) {
    constexpr std::uint64_t kHeader = 32;
    std::uint64_t at = 0, reached = 0, total = 0;
    unsigned blocks = 0;
    while (content.has(at, "wvpk") && content.holds(at, kHeader)) {
        const std::uint64_t size = std::uint64_t{content.u32le(at + 4)} + 8;
        const unsigned version = content.u16le(at + 8);
        const std::uint64_t samples = content.u32le(at + 12), index = content.u32le(at + 16);
        const std::uint64_t count = content.u32le(at + 20);
        if (version < 0x402 || version > 0x410 || size < kHeader || size > (1 << 20) + kHeader) break;
        if (!content.holds(at, size)) return broken_between(at, content.size(), "its last block is cut", at + size);
        if (!wavpack_parts_fill(content, at + kHeader, at + size)) break;
        if (blocks == 0 && samples != 0xFFFFFFFF) total = samples;
        // The blocks of all channels have the same samples.
        if (blocks > 0 && count != 0 && index != reached && index + count != reached) break;
        if (count != 0) reached = index + count;
        at += size;
        ++blocks;
    }
    if (blocks == 0) return nonsense();
    if (total != 0 && reached < total) return broken(at, "blocks are missing");
    return total == 0 ? open_ended(behind_sound_tags(content, at), Proof::chain)
                      : whole(behind_sound_tags(content, at), Proof::chain);
}

Measured measure_tta(Reader& content) {
    const std::uint64_t rate = content.u32le(10), samples = content.u32le(14);
    if (rate == 0 || samples == 0 || crc32_of(content, 0, 18) != content.u32le(18)) return nonsense();
    const std::uint64_t frame = rate * 256 / 245;
    const std::uint64_t frames = frame == 0 ? 0 : divide_up(samples, frame);
    if (frames == 0 || !content.holds(22, frames * 4 + 4)) return nonsense();
    if (crc32_of(content, 22, frames * 4) != content.u32le(22 + frames * 4)) return nonsense();
    std::uint64_t at = 22 + frames * 4 + 4;
    for (std::uint64_t i = 0; i < frames; ++i) {
        const std::uint64_t size = content.u32le(22 + 4 * i);
        if (size < 5 || !content.holds(at, size))
            return broken(std::min(at, content.size()), "its last frames are missing");
        if (crc32_of(content, at, size - 4) != content.u32le(at + size - 4))
            return broken_between(at, at + size, "the checksum of a frame is off");
        at += size;
    }
    return whole(behind_sound_tags(content, at), Proof::checksums);
}

Measured measure_musepack8(Reader& content) {
    std::uint64_t at = 4;
    for (unsigned packets = 0;; ++packets) {
        const unsigned a = content.u8(at), b = content.u8(at + 1);
        const auto is_key = [](unsigned c) { return c >= 'A' && c <= 'Z'; };
        if (!is_key(a) || !is_key(b) || (packets == 0 && content.u16be(at) != 0x5348))
            return packets < 2 ? nonsense() : broken(std::min(at, content.size()), "a packet is missing");
        std::uint64_t size = 0, p = at + 2;
        for (unsigned i = 0; i < 5; ++i) {
            const unsigned byte = content.u8(p++);
            size = size << 7 | (byte & 0x7FU);
            if ((byte & 0x80U) == 0) break;
        }
        if (size < p - at) return packets < 2 ? nonsense() : broken(at, "a packet makes no sense");
        if (!content.holds(at, size)) return broken_between(at, content.size(), "its end is missing", at + size);
        at += size;
        if (a == 'S' && b == 'E') return whole(behind_sound_tags(content, at), Proof::chain);
    }
}

Measured measure_au(Reader& content) {
    const std::uint64_t data = content.u32be(4), size = content.u32be(8);
    const unsigned encoding = content.u32be(12), rate = content.u32be(16), channels = content.u32be(20);
    if (data < 24 || data > 65536 || encoding == 0 || encoding > 27 || rate < 1000 || rate > 1'000'000 ||
        channels == 0 || channels > 64)
        return nonsense();
    return size == 0xFFFFFFFF ? open_ended(content.size(), Proof::length) : sized(content, data + size, Proof::length);
}

constexpr std::string_view kWave64 = "riff\x2E\x91\xCF\x11\xA5\xD6\x28\xDB\x04\xC1\0\0"sv;

Measured measure_wave64(Reader& content) {
    const std::uint64_t end = content.u64le(16);
    if (!content.has(24, "wave\xF3\xAC\xD3\x11\x8C\xD1"sv) || end < 40) return nonsense();
    std::uint64_t at = 40;
    while (at + 24 <= end && content.ok()) {
        const std::uint64_t size = content.u64le(at + 16);
        if (size < 24 || size > end - at) break;
        at += (size + 7) / 8 * 8;
    }
    return at >= end ? sized(content, end, Proof::chain)
                     : broken(std::min(at, content.size()), "its chunks end early", end);
}

Measured measure_core_audio(Reader& content) {
    constexpr std::string_view kChunks =
        "desc data free pakt chan kuki info strg mark regn umid uuid edct inst midi ovvw peak";
    if (content.u16be(4) != 1 || !content.has(8, "desc")) return nonsense();
    std::uint64_t at = 8;
    bool has_data = false;
    while (content.holds(at, 12)) {
        const std::string type = content.text(at, 4);
        if (kChunks.find(type) == std::string_view::npos || type.find(' ') != std::string::npos) break;
        const std::uint64_t size = content.u64be(at + 4);
        if (size == ~std::uint64_t{0}) return open_ended(content.size(), Proof::length);
        if (!content.holds(at + 12, size))
            return broken_between(at, content.size(), "its end is missing",
                                  at + 12 + std::min(size, std::uint64_t{1} << 60));
        has_data = has_data || type == "data";
        at += 12 + size;
    }
    return has_data ? whole(at, Proof::chain) : nonsense();
}

Measured measure_voice(Reader& content) {
    const std::uint64_t first = content.u16le(20);
    if (first < 26 || first > 256 || content.u16le(24) != ((~content.u16le(22) + 0x1234U) & 0xFFFFU)) return nonsense();
    for (std::uint64_t at = first; content.ok();) {
        const unsigned type = content.u8(at);
        if (type == 0) return whole(at + 1, Proof::chain);
        const std::uint64_t size = content.u24le(at + 1);
        if (type > 9) return broken(std::min(at, content.size()), "a block makes no sense");
        if (!content.holds(at + 4, size)) break;
        at += 4 + size;
    }
    return broken(content.size(), "its end is missing");
}

unsigned mod_channels(const std::string& mark) {
    for (const std::string_view four : {"M.K.", "M!K!", "FLT4", "4CHN"})
        if (mark == four) return 4;
    if (mark == "6CHN") return 6;
    return mark == "8CHN" || mark == "FLT8" || mark == "OCTA" ? 8 : 0;
}

Measured measure_mod(Reader& content) {
    const unsigned channels = mod_channels(content.text(1080, 4));
    const unsigned positions = content.u8(950);
    if (channels == 0 || positions == 0 || positions > 128) return nonsense();
    unsigned patterns = 0;
    for (unsigned i = 0; i < 128; ++i) patterns = std::max(patterns, content.u8(952 + i) + 1U);
    if (patterns > 128) return nonsense();
    std::uint64_t end = 1084 + std::uint64_t{patterns} * 64 * 4 * channels;
    for (unsigned i = 0; i < 31; ++i) {
        if (content.u8(20 + 30 * i + 24) > 15 || content.u8(20 + 30 * i + 25) > 64) return nonsense();
        end += std::uint64_t{content.u16be(20 + 30 * i + 22)} * 2;
    }
    return sized(content, end, Proof::length);
}

Measured measure_xm(Reader& content) {
    const unsigned patterns = content.u16le(70), instruments = content.u16le(72);
    std::uint64_t at = 60 + std::uint64_t{content.u32le(60)};
    if (content.u8(37) != 0x1A || patterns > 256 || instruments > 256) return nonsense();
    for (unsigned i = 0; i < patterns; ++i) {
        const std::uint64_t head = content.u32le(at), rows = content.u16le(at + 5);
        if (head < 7 || head > 64 || rows > 1024) return i == 0 ? nonsense() : broken(at, "a pattern is missing");
        at += head + content.u16le(at + 7);
    }
    for (unsigned i = 0; i < instruments; ++i) {
        const std::uint64_t head = content.u32le(at), samples = content.u16le(at + 27);
        if (head < 29 || head > 4096 || samples > 256)
            return broken(std::min(at, content.size()), "an instrument is missing");
        const std::uint64_t sample_head = samples == 0 ? 0 : content.u32le(at + 29);
        std::uint64_t bytes = 0;
        if (sample_head > 4096) return broken(at, "an instrument makes no sense");
        for (std::uint64_t n = 0; n < samples; ++n) bytes += content.u32le(at + head + sample_head * n);
        at += head + sample_head * samples + bytes;
    }
    return sized(content, at, Proof::chain);
}

// Samples of Impulse Tracker that are packed stand in blocks with their lengths before them.
std::uint64_t end_of_it_sample(Reader& content, std::uint64_t at, std::uint64_t samples, unsigned flags) {
    const bool is_wide = (flags & 2U) != 0;
    const std::uint64_t count = samples * ((flags & 4U) != 0 ? 2 : 1);
    if ((flags & 8U) == 0) return at + count * (is_wide ? 2 : 1);
    for (std::uint64_t done = 0; done < count && content.ok(); done += is_wide ? 0x4000 : 0x8000)
        at += 2 + std::uint64_t{content.u16le(at)};
    return at;
}

Measured measure_it(Reader& content) {
    const unsigned orders = content.u16le(32), instruments = content.u16le(34), samples = content.u16le(36),
                   patterns = content.u16le(38);
    if (orders > 256 || instruments > 256 || samples > 4000 || patterns > 1000 || orders == 0) return nonsense();
    const std::uint64_t lists = 192 + std::uint64_t{orders};
    std::uint64_t end = lists + 4 * (std::uint64_t{instruments} + samples + patterns);
    const auto listed = [&](std::uint64_t n) { return std::uint64_t{content.u32le(lists + 4 * n)}; };
    for (unsigned i = 0; i < instruments && content.ok(); ++i) {
        if (!content.has(listed(i), "IMPI")) return nonsense();
        end = std::max(end, listed(i) + 554);
    }
    for (unsigned i = 0; i < samples && content.ok(); ++i) {
        const std::uint64_t at = listed(instruments + i);
        if (!content.has(at, "IMPS")) return nonsense();
        end = std::max(end, at + 80);
        const unsigned flags = content.u8(at + 18);
        if ((flags & 1U) != 0)
            end = std::max(end, end_of_it_sample(content, content.u32le(at + 72), content.u32le(at + 48), flags));
    }
    for (unsigned i = 0; i < patterns && content.ok(); ++i)
        if (const std::uint64_t at = listed(std::uint64_t{instruments} + samples + i); at != 0)
            end = std::max(end, at + 8 + content.u16le(at));
    return sized(content, end, Proof::length);
}

Measured measure_s3m(Reader& content) {
    const unsigned orders = content.u16le(32), instruments = content.u16le(34), patterns = content.u16le(36);
    if (content.u8(28) != 0x1A || content.u8(29) != 16 || orders > 256 || instruments > 256 || patterns > 256)
        return nonsense();
    std::uint64_t end = 96 + std::uint64_t{orders} + 2 * (std::uint64_t{instruments} + patterns);
    for (unsigned i = 0; i < instruments && content.ok(); ++i) {
        const std::uint64_t at = std::uint64_t{content.u16le(96 + orders + 2 * i)} * 16;
        if (at == 0) continue;
        end = std::max(end, at + 80);
        if (content.u8(at) != 1) continue;
        const unsigned flags = content.u8(at + 31);
        const std::uint64_t place = (std::uint64_t{content.u8(at + 13)} << 16 | content.u16le(at + 14)) * 16;
        end = std::max(end, place + std::uint64_t{content.u32le(at + 16)} * ((flags & 2U) != 0 ? 2 : 1) *
                                        ((flags & 4U) != 0 ? 2 : 1));
    }
    for (unsigned i = 0; i < patterns && content.ok(); ++i) {
        const std::uint64_t at = std::uint64_t{content.u16le(96 + orders + 2 * instruments + 2 * i)} * 16;
        if (at != 0) end = std::max(end, at + content.u16le(at));
    }
    return sized(content, end, Proof::length);
}

// Modules have a name of so many characters.
template <std::uint64_t At, std::size_t Length>
Description describe_module(Reader& content, std::uint64_t) {
    const std::string name = content.text(At, Length);
    return {printable(name.substr(0, name.find('\0'))), {}, {}};
}

}  // namespace

const std::vector<Format>& music() {
    static const std::vector<Format> family = {
        {.name = "ape",
         .kind = Kind::audio,
         .extensions = {"ape"},
         .signatures = {{{0, "MAC "sv}}},
         .measure = measure_ape,
         .ending = "the sizes in its descriptor, and the tags behind it",
         .checked = "that its frames follow each other"},
        {.name = "wavpack",
         .kind = Kind::audio,
         .extensions = {"wv"},
         .signatures = {{{0, "wvpk"sv}}},
         .measure = measure_wavpack,
         .ending = "the block with its last sample, and the tags behind it",
         .checked = "the chain of blocks"},
        {.name = "tta",
         .kind = Kind::audio,
         .extensions = {"tta"},
         .signatures = {{{0, "TTA1"sv}}},
         .measure = measure_tta,
         .ending = "its last frame, and the tags behind it",
         .checked = "the checksum of every frame"},
        {.name = "musepack",
         .kind = Kind::audio,
         .extensions = {"mpc"},
         .signatures = {{{0, "MPCK"sv}}},
         .measure = measure_musepack8,
         .ending = "its last packet, and the tags behind it",
         .checked = "the chain of packets"},
        {.name = "au",
         .kind = Kind::audio,
         .extensions = {"au", "snd"},
         .signatures = {{{0, ".snd"sv}}},
         .measure = measure_au,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "wave64",
         .kind = Kind::audio,
         .extensions = {"w64"},
         .signatures = {{{0, kWave64}}},
         .measure = measure_wave64,
         .ending = "the size in its header",
         .checked = "the chain of chunks"},
        {.name = "caf",
         .kind = Kind::audio,
         .extensions = {"caf"},
         .signatures = {{{0, "caff"sv}}},
         .measure = measure_core_audio,
         .ending = "its last chunk",
         .checked = "the chain of chunks"},
        {.name = "voc",
         .kind = Kind::audio,
         .extensions = {"voc"},
         .signatures = {{{0, "Creative Voice File\x1A"sv}}},
         .is_loose = true,
         .measure = measure_voice,
         .ending = "its end block",
         .checked = "the chain of blocks"},
        {.name = "mod",
         .kind = Kind::audio,
         .extensions = {"mod"},
         .signatures = {{{1080, "M.K."sv}},
                        {{1080, "M!K!"sv}},
                        {{1080, "FLT4"sv}},
                        {{1080, "4CHN"sv}},
                        {{1080, "6CHN"sv}},
                        {{1080, "8CHN"sv}}},
         .measure = measure_mod,
         .describe = describe_module<0, 20>,
         .ending = "the last of its samples",
         .checked = "its lists"},
        {.name = "xm",
         .kind = Kind::audio,
         .extensions = {"xm"},
         .signatures = {{{0, "Extended Module: "sv}}},
         .measure = measure_xm,
         .describe = describe_module<17, 20>,
         .ending = "the last sample of its last instrument",
         .checked = "the chain of patterns and instruments"},
        {.name = "it",
         .kind = Kind::audio,
         .extensions = {"it"},
         .signatures = {{{0, "IMPM"sv}}},
         .measure = measure_it,
         .describe = describe_module<4, 26>,
         .ending = "the furthest sample or pattern",
         .checked = "its lists"},
        {.name = "s3m",
         .kind = Kind::audio,
         .extensions = {"s3m"},
         .signatures = {{{44, "SCRM"sv}}},
         .measure = measure_s3m,
         .describe = describe_module<0, 28>,
         .ending = "the furthest sample or pattern",
         .checked = "its lists"},
    };
    return family;
}

}  // namespace dredger::formats

// PNG and APNG: W3C Portable Network Graphics (third edition).
#include <fmt/format.h>

#include "formats/exif.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kHeader = 8;
constexpr std::uint64_t kLeastPicture = 2048;  // bytes of sensible picture data that make a broken file worth it

bool is_chunk_name(Reader& content, std::uint64_t at) {
    for (unsigned i = 0; i < 4; ++i) {
        const unsigned c = content.u8(at + i) | 0x20U;
        if (c < 'a' || c > 'z') return false;
    }
    return true;
}

bool is_header_sane(Reader& content) {
    if (content.u32be(kHeader) != 13 || !content.has(kHeader + 4, "IHDR")) return false;
    if (crc32_of(content, kHeader + 4, 17) != content.u32be(kHeader + 21)) return false;
    return content.u32be(kHeader + 8) != 0 && content.u32be(kHeader + 12) != 0;
}

// A chunk whose checksum is off: how far the packed pixels up to and in it still make sense.
std::uint64_t good_pixels(Reader& content, std::uint64_t first_pixels, std::uint64_t damaged) {
    StreamDecoder decoder(Packing::zlib);
    std::uint64_t at = first_pixels;
    while (content.has(at + 4, "IDAT")) {
        std::uint64_t from = at + 8;
        const std::uint64_t end = from + content.u32be(at);
        while (from < end) {
            auto here = content.some(from);
            if (here.empty()) return from;
            here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), end - from)));
            std::size_t used = 0;
            const auto state = decoder.feed(here, used, [](auto) {});
            from += used;
            if (state != StreamDecoder::State::going || used == 0) return std::max(from, damaged);
        }
        if (at >= damaged) return from;
        at = end + 4;
    }
    return damaged;
}

Measured measure_png(Reader& content) {
    if (!is_header_sane(content)) return nonsense();
    std::uint64_t at = kHeader;
    std::uint64_t first_pixels = 0;
    for (;;) {
        const std::uint64_t length = content.u32be(at);
        const bool fits = length <= 0x7FFFFFFF && content.holds(at, 12 + length) && is_chunk_name(content, at + 4);
        const bool is_pixels = content.has(at + 4, "IDAT");
        if (is_pixels && first_pixels == 0) first_pixels = at;
        if (!fits || crc32_of(content, at + 4, 4 + length) != content.u32be(at + 8 + length)) {
            const std::uint64_t good = is_pixels ? good_pixels(content, first_pixels, at) : at;
            if (first_pixels == 0 || good < first_pixels + kLeastPicture) return nonsense();
            // Where the packed pixels break is where it goes wrong, or a little before.
            const std::uint64_t end = fits && is_pixels ? std::min(good + 1, at + 12 + length) : good;
            return broken_between(at, std::min(end, content.size()), "the checksum of a chunk is off");
        }
        at += 12 + length;
        if (content.has(at - 8, "IEND")) break;
    }
    return first_pixels != 0 ? whole(at, Proof::checksums) : nonsense();
}

Description describe_png(Reader& content, std::uint64_t length) {
    Description said;
    said.facts.push_back({"pixels", fmt::format("{} x {}", content.u32be(kHeader + 8), content.u32be(kHeader + 12))});
    for (std::uint64_t at = kHeader; at + 12 < length && content.ok() && !content.has(at + 4, "IDAT");
         at += 12 + content.u32be(at)) {
        if (content.has(at + 4, "eXIf")) describe_exif(content, at + 8, said);
        if (content.has(at + 4, std::string_view("tEXtTitle\0", 10)))
            said.title = content.text(at + 14, std::min<std::size_t>(content.u32be(at), 106) - 6);
    }
    title_from_camera(said);
    return said;
}

}  // namespace

const std::vector<Format>& png() {
    static const std::vector<Format> family = {
        {.name = "png",
         .kind = Kind::picture,
         .extensions = {"png", "apng"},
         .signatures = {{{0, "\x89PNG\r\n\x1A\n"sv}}},
         .measure = measure_png,
         .describe = describe_png,
         .ending = "the IEND chunk",
         .checked = "the checksum of every chunk"},
    };
    return family;
}

}  // namespace dredger::formats

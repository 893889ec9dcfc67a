// Bitmaps of Windows ([MS-WMF] 2.2.2, BITMAPFILEHEADER and its headers), icons and cursors, and Photoshop documents
// (Adobe Photoshop File Formats Specification).
#include <fmt/format.h>

#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kFileHeader = 14;

// Bytes of the pixels behind a bitmap header at `at`, or 0 where it makes no sense.
std::uint64_t pixel_bytes(Reader& content, std::uint64_t at) {
    const std::uint32_t header = content.u32le(at);
    const bool old = header == 12;
    if (!old && header != 40 && header != 52 && header != 56 && header != 64 && header != 108 && header != 124)
        return 0;
    const std::int64_t width = old ? content.u16le(at + 4) : static_cast<std::int32_t>(content.u32le(at + 4));
    const std::int64_t height = old ? content.u16le(at + 6) : static_cast<std::int32_t>(content.u32le(at + 8));
    const unsigned planes = content.u16le(at + (old ? 8 : 12));
    const unsigned depth = content.u16le(at + (old ? 10 : 14));
    const std::uint32_t packing = old ? 0 : content.u32le(at + 16);
    const bool depth_is_known = depth == 1 || depth == 4 || depth == 8 || depth == 16 || depth == 24 || depth == 32;
    if (planes != 1 || !depth_is_known || width <= 0 || width > 100'000 || height == 0 || height > 100'000 ||
        height < -100'000 || packing > 6)
        return 0;
    if (packing == 1 || packing == 2 || packing > 3) return content.u32le(at + 20);
    return static_cast<std::uint64_t>((width * depth + 31) / 32 * 4 * (height < 0 ? -height : height));
}

Measured measure_bmp(Reader& content) {
    const std::uint64_t pixels = pixel_bytes(content, kFileHeader);
    const std::uint64_t claimed = content.u32le(2);
    const std::uint64_t start = content.u32le(10);
    if (!content.has(0, "BM") || pixels == 0 || start < kFileHeader + content.u32le(14) || start > 4096)
        return nonsense();
    // Some programs write the size without the headers, or none at all; a little more is padding.
    const std::uint64_t least = start + pixels;
    const std::uint64_t length = claimed >= least && claimed <= least + 4096 ? claimed : least;
    if (claimed != 0 && claimed != length && claimed != pixels) return nonsense();
    if (!content.holds(0, length)) return broken(content.size(), "its end is missing", length);
    return whole(length, Proof::length);
}

Description describe_bmp(Reader& content, std::uint64_t) {
    const bool old = content.u32le(14) == 12;
    const auto width = old ? content.u16le(18) : content.u32le(18);
    const auto height = old ? content.u16le(20) : content.u32le(22);
    return {{}, {}, {{"pixels", fmt::format("{} x {}", width, std::abs(static_cast<std::int32_t>(height)))}}};
}

constexpr unsigned kMaxIcons = 64;

unsigned bid_ico(ByteView head) {
    constexpr unsigned kBits = 40;
    const unsigned type = head.u16le(2).value_or(0), count = head.u16le(4).value_or(0);
    return head.has(0, "\0\0"sv) && (type == 1 || type == 2) && count >= 1 && count <= kMaxIcons ? kBits : 0;
}

Measured measure_ico(Reader& content) {
    const unsigned count = content.u16le(4);
    if (content.u16le(0) != 0 || content.u16le(2) < 1 || content.u16le(2) > 2 || count == 0 || count > kMaxIcons)
        return nonsense();
    const std::uint64_t directory = 6 + 16 * std::uint64_t{count};
    std::uint64_t end = directory;
    for (unsigned i = 0; i < count; ++i) {
        const std::uint64_t entry = 6 + 16 * std::uint64_t{i};
        const std::uint64_t length = content.u32le(entry + 8);
        const std::uint64_t at = content.u32le(entry + 12);
        if (content.u8(entry + 3) != 0 || at < directory || !content.holds(at, length)) return nonsense();
        const bool is_png = content.has(at, "\x89PNG\r\n\x1A\n");
        if (!is_png && (content.u32le(at) != 40 || content.u16le(at + 12) != 1 || length < 40)) return nonsense();
        end = std::max(end, at + length);
    }
    return whole(end, Proof::length);
}

// Behind the header: lengths and sections one after the other; at the end the merged picture.
Measured measure_psd(Reader& content) {
    const unsigned version = content.u16be(4);
    const unsigned channels = content.u16be(12);
    const std::uint64_t height = content.u32be(14);
    const std::uint64_t width = content.u32be(18);
    const unsigned depth = content.u16be(22);
    if (!content.has(0, "8BPS") || version < 1 || version > 2 || channels < 1 || channels > 56 || height == 0 ||
        height > 300'000 || width == 0 || width > 300'000 || (depth != 1 && depth != 8 && depth != 16 && depth != 32))
        return nonsense();
    constexpr std::uint64_t kMaxColors = 8192;  // bytes; a palette has 768, other modes none or a few
    std::uint64_t at = 26;
    if (content.u32be(at) > kMaxColors) return nonsense();
    at += 4 + std::uint64_t{content.u32be(at)};  // colour mode
    if (content.u32be(at) != 0 && !content.has(at + 4, "8BIM")) return nonsense();
    at += 4 + std::uint64_t{content.u32be(at)};  // image resources
    const std::uint64_t layers = version == 2 ? content.u64be(at) : content.u32be(at);
    at += version == 2 ? 8 : 4;
    if (!content.holds(at, layers)) return broken(std::min(at, content.size()), "its end is missing");
    at += layers;
    const unsigned packing = content.u16be(at);
    at += 2;
    const std::uint64_t rows = height * channels;
    if (packing == 0) {
        const std::uint64_t length = rows * ((width * depth + 7) / 8);
        return content.holds(at, length) ? whole(at + length, Proof::length)
                                         : broken(content.size(), "its end is missing", at + length);
    }
    if (packing != 1) return open_ended(std::min(at, content.size()), Proof::length);
    const unsigned entry = version == 2 ? 4 : 2;
    if (!content.holds(at, rows * entry)) return broken(content.size(), "its end is missing");
    std::uint64_t length = rows * entry;
    for (std::uint64_t row = 0; row < rows; ++row) {
        const std::uint64_t packed = version == 2 ? content.u32be(at + row * entry) : content.u16be(at + row * entry);
        if (packed < 2 || packed > width * 5 + 16) return broken(at, "the merged picture makes no sense");
        length += packed;
    }
    return content.holds(at, length) ? whole(at + length, Proof::chain)
                                     : broken(content.size(), "its end is missing", at + length);
}

Description describe_psd(Reader& content, std::uint64_t) {
    return {{}, {}, {{"pixels", fmt::format("{} x {}", content.u32be(18), content.u32be(14))}}};
}

}  // namespace

const std::vector<Format>& bitmaps() {
    static const std::vector<Format> family = {
        // Bytes 6 to 9 are reserved and zero; a pixel-data offset below 64 KiB keeps plain text out.
        {.name = "bmp",
         .kind = Kind::picture,
         .extensions = {"bmp", "dib"},
         .signatures = {{{0, "BM"sv}, {6, "\0\0\0\0"sv}, {12, "\0\0"sv}}},
         .measure = measure_bmp,
         .describe = describe_bmp,
         .ending = "the size in its header",
         .checked = "that width, height and depth agree with it"},
        {.name = "ico",
         .kind = Kind::picture,
         .extensions = {"ico", "cur"},
         .signatures = {{{0, "\0\0\1\0"sv}, {5, "\0"sv}}, {{0, "\0\0\2\0"sv}, {5, "\0"sv}}},
         .bid = bid_ico,
         .measure = measure_ico,
         .ending = "the last picture of its directory",
         .checked = "that each picture begins there"},
        {.name = "psd",
         .kind = Kind::picture,
         .extensions = {"psd", "psb"},
         .signatures = {{{0, "8BPS\0"sv}}},
         .measure = measure_psd,
         .describe = describe_psd,
         .ending = "the rows of the merged picture",
         .checked = "the lengths of sections and rows"},
    };
    return family;
}

}  // namespace dredger::formats

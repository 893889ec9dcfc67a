// Truevision TGA ("Truevision TGA File Format Specification 2.0").
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kHeader = 18;
constexpr std::uint64_t kExtensionArea = 495;
constexpr std::string_view kFooterMark = "TRUEVISION-XFILE.\0"sv;
constexpr std::uint64_t kFooter = 8 + kFooterMark.size();

struct Header {
    unsigned id_length, color_map_type, image_type, map_length, map_depth, width, height, depth, descriptor;

    bool is_packed() const { return image_type >= 9; }
    bool is_mapped() const { return (image_type & 7U) == 1; }
    bool is_grey() const { return (image_type & 7U) == 3; }

    bool makes_sense() const {
        const unsigned alpha = descriptor & 15U;
        if ((descriptor & 0xC0U) != 0 || width == 0 || height == 0 || width > 32768 || height > 32768) return false;
        if (is_mapped()) return color_map_type == 1 && map_length > 0 && map_length <= 4096 && depth == 8 && alpha <= 8;
        if (color_map_type != 0 || map_length != 0) return false;
        if (is_grey()) return (depth == 8 || depth == 16) && alpha <= 8;
        return (depth == 15 && alpha <= 1) || (depth == 16 && alpha <= 1) || (depth == 24 && alpha == 0) ||
               (depth == 32 && (alpha == 0 || alpha == 8));
    }
    std::uint64_t pixels() const { return std::uint64_t{width} * height; }
    std::uint64_t pixel() const { return (depth + 7) / 8; }
    std::uint64_t data() const { return kHeader + id_length + std::uint64_t{map_length} * ((map_depth + 7) / 8); }
};

template <class Bytes, class Words>
Header header_of(const Bytes& u8, const Words& u16) {
    return {u8(0), u8(1), u8(2), u16(5), u8(7), u16(12), u16(14), u8(16), u8(17)};
}

unsigned bid_tga(ByteView head) {
    constexpr unsigned kBits = 24;
    if (head.size() < kHeader) return 0;
    const Header header = header_of([&](std::size_t at) -> unsigned { return head.u8(at).value_or(0); },
                                    [&](std::size_t at) -> unsigned { return head.u16le(at).value_or(0); });
    return header.makes_sense() ? kBits : 0;
}

// Behind the packets of a packed picture; nothing: they don't fill it as they should.
std::optional<std::uint64_t> behind_packets(Reader& content, const Header& header) {
    std::uint64_t at = header.data();
    for (std::uint64_t pixels = 0; pixels < header.pixels();) {
        if (!content.holds(at, 1 + header.pixel())) return std::nullopt;
        const unsigned packet = content.u8(at);
        const std::uint64_t count = (packet & 127U) + 1;
        pixels += count;
        at += 1 + ((packet & 128U) != 0 ? 1 : count) * header.pixel();
        if (pixels > header.pixels()) return std::nullopt;
    }
    return at;
}

// The footer stands behind the picture, or behind the areas that it tells the places of.
std::optional<std::uint64_t> behind_footer(Reader& content, std::uint64_t picture_end) {
    constexpr std::uint64_t kMaxDeveloperArea = 1 << 20;
    const std::uint64_t reach = std::min(content.size(), picture_end + kExtensionArea + kMaxDeveloperArea);
    std::uint64_t at = picture_end + 8;
    if (!content.has(at, kFooterMark)) {
        const auto mark = content.find(kFooterMark, at, reach);
        if (!mark) return std::nullopt;
        at = *mark;
        const std::uint64_t extension = content.u32le(at - 8), developer = content.u32le(at - 4);
        if (extension != 0 ? extension < picture_end || extension >= at : developer < picture_end || developer >= at)
            return std::nullopt;
    }
    return at - 8 + kFooter;
}

Measured measure_tga(Reader& content) {
    const Header header = header_of([&](std::uint64_t at) -> unsigned { return content.u8(at); },
                                    [&](std::uint64_t at) -> unsigned { return content.u16le(at); });
    if (!header.makes_sense()) return nonsense();
    std::uint64_t end = header.data() + header.pixels() * header.pixel();
    if (header.is_packed()) {
        const auto behind = behind_packets(content, header);
        if (!behind) return nonsense();
        end = *behind;
    }
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    if (const auto footer = behind_footer(content, end)) return whole(*footer, Proof::chain);
    return whole(end, header.is_packed() ? Proof::chain : Proof::length);
}

}  // namespace

const std::vector<Format>& tga() {
    static const std::vector<Format> family = {
        {.name = "tga",
         .kind = Kind::picture,
         .extensions = {"tga", "vda", "icb", "vst"},
         .signatures = {{{1, "\0\2\0\0\0\0\0"sv}},
                        {{1, "\0\3\0\0\0\0\0"sv}},
                        {{1, "\0\x0A\0\0\0\0\0"sv}},
                        {{1, "\0\x0B\0\0\0\0\0"sv}},
                        {{1, "\1\1\0\0"sv}},
                        {{1, "\1\x09\0\0"sv}}},
         .bid = bid_tga,
         .measure = measure_tga,
         .ending = "its footer, or the size of the picture",
         .checked = "the packets of packed pictures"},
    };
    return family;
}

}  // namespace dredger::formats

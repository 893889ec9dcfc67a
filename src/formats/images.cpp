// Pictures that fewer programs write: DjVu ("DjVu3 file format", IFF85), DirectDraw surfaces (Microsoft's DDS guide),
// OpenEXR ("OpenEXR File Layout"), icons of Apple ("Apple Icon Image format", from Icon Composer's headers), PCX
// (ZSoft's technical reference), SGI ("The SGI Image File Format", 1.00), enhanced and Windows metafiles ([MS-EMF],
// [MS-WMF]), XCF (GIMP's devel-docs/xcf.txt), Minolta's and Sigma's raw pictures (MRW, X3F by their published
// descriptions).
#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/checked.h"
#include "base/text.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

// The chunks of an IFF file; false: they don't end where it does. `count`: how many could be ones.
bool chunks_fill(Reader& content, std::uint64_t at, std::uint64_t end, unsigned& count) {
    for (; at + 8 <= end && content.ok(); ++count) {
        for (unsigned i = 0; i < 4; ++i)
            if (const unsigned c = content.u8(at + i); c < 0x20 || c > 0x7E) return false;
        at += 8 + std::uint64_t{content.u32be(at + 4)};
        at += at % 2;
    }
    return at == end || at == end + 1;
}

Measured measure_djvu(Reader& content) {
    const std::uint64_t end = 12 + std::uint64_t{content.u32be(8)};
    if (!content.has(12, "DJV") && !content.has(12, "PM44") && !content.has(12, "BM44")) return nonsense();
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    unsigned chunks = 0;
    return chunks_fill(content, 16, end, chunks) ? whole(end, Proof::chain)
           : chunks < 2                          ? nonsense()
                                                 : broken(16, "its chunks make no sense", end);
}

Measured measure_dds(Reader& content) {
    const std::uint64_t height = content.u32le(12), width = content.u32le(16);
    const std::uint64_t levels = std::clamp<std::uint64_t>(content.u32le(28), 1, 32);
    const std::uint32_t flags = content.u32le(80), caps = content.u32le(112);
    const std::string code = content.text(84, 4);
    if (content.u32le(76) != 32 || width == 0 || height == 0 || width > 65536 || height > 65536) return nonsense();
    std::uint64_t bits = content.u32le(88), block = 0, start = 128, surfaces = 1;
    if ((flags & 4U) != 0) {
        if (code == "DXT1" || code == "ATI1" || code == "BC4U" || code == "BC4S") block = 8;
        if (code == "DXT2" || code == "DXT3" || code == "DXT4" || code == "DXT5" || code == "ATI2" || code == "BC5U" ||
            code == "BC5S")
            block = 16;
        if (code == "DX10") {
            const std::uint32_t format = content.u32le(128);
            start = 148;
            surfaces = std::uint64_t{std::max(1U, content.u32le(140))} * ((content.u32le(136) & 4U) != 0 ? 6U : 1U);
            if ((format >= 70 && format <= 72) || (format >= 79 && format <= 81)) block = 8;
            if ((format >= 73 && format <= 78) || (format >= 82 && format <= 84) || (format >= 94 && format <= 99))
                block = 16;
            bits = format <= 4                                      ? 128
                   : format <= 8                                    ? 96
                   : format <= 22                                   ? 64
                   : format <= 47 || (format >= 85 && format <= 93) ? 32
                                                                    : 0;
        }
        if (const std::uint32_t number = content.u32le(84); number >= 110 && number <= 116)
            bits = number <= 111                    ? (number == 110 ? 64 : 16)
                   : number == 112 || number == 114 ? 32
                   : number == 116                  ? 128
                                                    : 64;
        if (block == 0 && bits == 0) return nonsense();
    }
    if (block == 0 && (bits == 0 || bits > 128)) return nonsense();
    const std::uint64_t depth = (caps & 0x200000U) != 0 ? std::clamp(content.u32le(24), 1U, 4096U) : 1;
    if ((caps & 0xFE00U) == 0xFE00U) surfaces *= 6;
    std::uint64_t bytes = 0;
    for (std::uint64_t level = 0; level < levels; ++level) {
        const std::uint64_t w = std::max<std::uint64_t>(1, width >> level),
                            h = std::max<std::uint64_t>(1, height >> level);
        const std::uint64_t d = std::max<std::uint64_t>(1, depth >> level);
        bytes += (block != 0 ? divide_up(w, 4) * divide_up(h, 4) * block : divide_up(w * bits, 8) * h) * d;
    }
    return sized(content, start + bytes * surfaces, Proof::length);
}

// Text up to a zero; 0: there is none of at most 255 characters.
std::uint64_t name_length(Reader& content, std::uint64_t at) {
    const auto zero = content.find("\0"sv, at, at + 256);
    return zero ? *zero - at : 0;
}

Measured measure_exr(Reader& content) {
    constexpr unsigned kMultiPart = 0x1000, kTiled = 0x200, kDeep = 0x800;
    const std::uint32_t version = content.u32le(4);
    if ((version & 0xFFU) != 2) return nonsense();
    struct Part {
        std::uint64_t chunks = 0;
    };
    std::vector<Part> parts;
    std::uint64_t at = 8;
    const bool is_multi = (version & kMultiPart) != 0;
    do {
        Part part;
        std::int64_t first_line = 0, last_line = -1, first_column = 0, last_column = -1;
        unsigned compression = 99;
        std::uint64_t tile_width = 0, tile_height = 0;
        unsigned mode = 0;
        while (const std::uint64_t name = name_length(content, at)) {
            const std::string which = content.text(at, static_cast<std::size_t>(name));
            at += name + 1;
            at += name_length(content, at) + 1;
            const std::uint64_t size = content.u32le(at);
            at += 4;
            if (which == "compression") compression = content.u8(at);
            const auto i32 = [&](std::uint64_t from) { return static_cast<std::int32_t>(content.u32le(from)); };
            if (which == "dataWindow")
                first_column = i32(at), first_line = i32(at + 4), last_column = i32(at + 8), last_line = i32(at + 12);
            if (which == "chunkCount") part.chunks = content.u32le(at);
            if (which == "tiles")
                tile_width = content.u32le(at), tile_height = content.u32le(at + 4), mode = content.u8(at + 8);
            at += size;
            if (!content.ok()) return parts.empty() ? nonsense() : broken(content.size(), "its end is missing");
        }
        ++at;
        constexpr std::uint64_t kLines[] = {1, 1, 1, 16, 32, 16, 32, 32, 32, 256};
        if (part.chunks == 0) {
            if (compression >= std::size(kLines) || last_line < first_line || last_column < first_column)
                return nonsense();
            const auto height = static_cast<std::uint64_t>(last_line - first_line + 1),
                       width = static_cast<std::uint64_t>(last_column - first_column + 1);
            if ((version & kTiled) != 0) {
                if (tile_width == 0 || tile_height == 0 || (mode & 15U) == 2) return nonsense();
                const bool rounds_up = (mode >> 4 & 1U) != 0;
                for (std::uint64_t w = width, h = height;;) {
                    part.chunks += divide_up(w, tile_width) * divide_up(h, tile_height);
                    if ((mode & 15U) == 0 || (w == 1 && h == 1)) break;
                    w = std::max<std::uint64_t>(1, rounds_up ? divide_up(w, 2) : w / 2);
                    h = std::max<std::uint64_t>(1, rounds_up ? divide_up(h, 2) : h / 2);
                }
            } else {
                part.chunks = divide_up(height, kLines[compression]);
            }
        }
        if (part.chunks > 16 << 20) return nonsense();
        parts.push_back(part);
    } while (is_multi && parts.size() < 4096 && content.ok() && content.u8(at) != 0);
    if (is_multi) ++at;
    std::uint64_t chunks = 0;
    for (const Part& part : parts) chunks += part.chunks;
    if (!content.holds(at, chunks * 8)) return broken(content.size(), "its end is missing");
    // The table of all chunks tells the furthest; a chunk tells its length.
    std::uint64_t furthest = 0;
    for (std::uint64_t i = 0; i < chunks; ++i) furthest = std::max(furthest, content.u64le(at + 8 * i));
    if (furthest < at + chunks * 8) return broken(at, "its table was never written");
    const std::uint64_t head = (is_multi ? 4 : 0) + ((version & kTiled) != 0 ? 16 : 4);
    if ((version & kDeep) != 0) {
        const std::uint64_t sizes = furthest + head;
        return sized(content, sizes + 24 + content.u64le(sizes) + content.u64le(sizes + 8), Proof::length);
    }
    if (!content.holds(furthest, head + 4)) return broken(content.size(), "its end is missing");
    return sized(content, furthest + head + 4 + content.u32le(furthest + head), Proof::length);
}

Measured measure_icns(Reader& content) {
    const std::uint64_t end = content.u32be(4);
    std::uint64_t at = 8;
    unsigned icons = 0;
    if (end < 16) return nonsense();
    while (at + 8 <= end && content.holds(at, 8)) {
        const std::uint64_t size = content.u32be(at + 4);
        if (size < 8 || size > end - at) return icons < 2 ? nonsense() : broken(at, "an icon makes no sense", end);
        at += size;
        ++icons;
    }
    return at == end ? sized(content, end, Proof::chain)
                     : broken(std::min(at, content.size()), "its end is missing", end);
}

unsigned bid_pcx(ByteView head) {
    if (head.size() < 128 || !head.has(0, "\x0A")) return 0;
    const auto at = [&](std::size_t i) { return std::to_integer<unsigned>(head.bytes()[i]); };
    const unsigned version = at(1), bits = at(3), planes = at(65);
    const unsigned left = at(4) | at(5) << 8, top = at(6) | at(7) << 8, right = at(8) | at(9) << 8,
                   bottom = at(10) | at(11) << 8;
    const unsigned row = at(66) | at(67) << 8;
    const bool is_one = version <= 5 && version != 1 && at(2) == 1 &&
                        (bits == 1 || bits == 2 || bits == 4 || bits == 8) && planes >= 1 && planes <= 4 &&
                        at(64) == 0 && right >= left && bottom >= top && row >= ((right - left + 1) * bits + 7) / 8 &&
                        row <= ((right - left + 1) * bits + 7) / 8 + 8;
    return is_one ? 40 : 0;
}

Measured measure_pcx(Reader& content) {
    const std::uint64_t rows = std::uint64_t{content.u16le(10)} - content.u16le(6) + 1;
    const unsigned planes = content.u8(65), bits = content.u8(3);
    const std::uint64_t wanted = rows * planes * content.u16le(66);
    std::uint64_t at = 128, done = 0;
    while (done < wanted && content.ok()) {
        const unsigned byte = content.u8(at++);
        const bool is_run = (byte & 0xC0U) == 0xC0;
        done += is_run ? byte & 0x3FU : 1U;
        if (is_run) ++at;
        if (is_run && (byte & 0x3FU) == 0) return broken(at - 2, "a run of nothing");
    }
    if (!content.ok()) return broken(content.size(), "its end is missing");
    // Some writers let the last run reach over the end.
    if (done > wanted + 63) return broken(at, "its rows don't end where the picture does");
    if (bits == 8 && planes == 1 && content.u8(1) == 5 && content.holds(at, 769) && content.u8(at) == 0x0C) at += 769;
    return whole(at, Proof::chain);
}

Measured measure_sgi(Reader& content) {
    const unsigned storage = content.u8(2), bytes = content.u8(3), dimension = content.u16be(4);
    const std::uint64_t width = content.u16be(6), height = dimension >= 2 ? content.u16be(8) : 1,
                        depth = dimension >= 3 ? content.u16be(10) : 1;
    if (storage > 1 || bytes < 1 || bytes > 2 || dimension < 1 || dimension > 3 || width == 0 || height == 0 ||
        depth == 0 || depth > 16 || content.u32be(104) > 3)
        return nonsense();
    if (storage == 0) return sized(content, 512 + width * height * depth * bytes, Proof::length);
    const std::uint64_t rows = height * depth;
    std::uint64_t end = 512 + 8 * rows;
    for (std::uint64_t i = 0; i < rows && content.ok(); ++i)
        end = std::max(end, std::uint64_t{content.u32be(512 + 4 * i)} + content.u32be(512 + 4 * (rows + i)));
    return sized(content, end, Proof::length);
}

Measured measure_emf(Reader& content) {
    constexpr std::uint32_t kEnd = 14;  // EMR_EOF
    const std::uint64_t bytes = content.u32le(48);
    std::uint64_t at = 0;
    for (std::uint32_t records = content.u32le(52); records > 0 && content.ok(); --records) {
        const std::uint32_t type = content.u32le(at), size = content.u32le(at + 4);
        if (type == 0 || type > 122 || size < 8 || size % 4 != 0 || size > bytes - std::min(at, bytes))
            return at == 0 ? nonsense() : broken(at, "a record makes no sense", bytes);
        at += size;
        if (type == kEnd)
            return at == bytes ? sized(content, at, Proof::chain) : broken(at, "its records end early", bytes);
    }
    return broken(std::min(at, content.size()), "its end is missing", bytes);
}

Measured measure_wmf(Reader& content) {
    std::uint64_t at = content.u32le(0) == 0x9AC6CDD7 ? 22 : 0;
    const std::uint64_t start = at, words = content.u32le(at + 6), largest = content.u32le(at + 12);
    if (content.u16le(at + 2) != 9 || words < 12 || (content.u16le(at) != 1 && content.u16le(at) != 2))
        return nonsense();
    for (at += 18; content.ok();) {
        const std::uint64_t size = content.u32le(at);
        const unsigned function = content.u16le(at + 4);
        if (size < 3 || (size > largest && size > 3 && largest != 0))
            return at == start + 18
                       ? nonsense()
                       : broken(std::min(at, content.size()), "a record makes no sense", start + words * 2);
        at += size * 2;
        if (function == 0 && size == 3) break;
    }
    return content.ok() ? whole(at, Proof::chain) : broken(content.size(), "its end is missing", start + words * 2);
}

// GIMP's own files: pointers lead from the picture to layers and channels, from these to levels, from these to tiles.
class Xcf {
  public:
    explicit Xcf(Reader& content) : content_(content) {}

    Measured measure() {
        const unsigned version = content_.has(9, "file") ? 0 : digits(10);
        if (version > 30) return nonsense();
        wide_ = version >= 11;
        std::uint64_t at = 14 + 12;
        if (version >= 4) at += 4;  // precision
        if (content_.u32be(14) == 0 || content_.u32be(18) == 0 || content_.u32be(22) > 2) return nonsense();
        if (!pass_properties(at)) return nonsense();
        for (unsigned list = 0; list < 2; ++list)  // layers, channels
            while (const std::uint64_t place = pointer(at))
                if (!take_drawable(place, list == 0))
                    return broken(std::min<std::uint64_t>(at, content_.size()), "a layer makes no sense");
        end_ = std::max(end_, at);
        return sized(content_, end_, Proof::chain);
    }

  private:
    unsigned digits(std::uint64_t at) {
        const std::string text = content_.text(at, 3);
        return text.size() == 3 && std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; })
                   ? static_cast<unsigned>((text[0] - '0') * 100 + (text[1] - '0') * 10 + (text[2] - '0'))
                   : 99;
    }
    std::uint64_t pointer(std::uint64_t& at) {
        const std::uint64_t place = wide_ ? content_.u64be(at) : content_.u32be(at);
        at += wide_ ? 8 : 4;
        return content_.ok() ? place : 0;
    }
    bool pass_properties(std::uint64_t& at) {
        while (content_.ok()) {
            const std::uint32_t type = content_.u32be(at), size = content_.u32be(at + 4);
            if (type > 60) return false;
            if (type == 17) packing_ = content_.u8(at + 8);
            at += 8 + std::uint64_t{size};
            if (type == 0) return true;
        }
        return false;
    }
    bool take_drawable(std::uint64_t at, bool is_layer) {
        if (!seen_.insert(at).second) return false;
        at += is_layer ? 12 : 8;
        at += 4 + std::uint64_t{content_.u32be(at)};
        if (!pass_properties(at)) return false;
        const std::uint64_t hierarchy = pointer(at), mask = is_layer ? pointer(at) : 0;
        end_ = std::max(end_, at);
        return take_hierarchy(hierarchy) && (mask == 0 || take_drawable(mask, false));
    }
    bool take_hierarchy(std::uint64_t at) {
        const std::uint32_t pixel = content_.u32be(at + 8);  // bytes
        if (pixel == 0 || pixel > 64) return false;
        at += 12;
        bool is_first = true;
        while (const std::uint64_t level = pointer(at)) {
            if (!take_level(level, pixel, is_first)) return false;
            is_first = false;
        }
        end_ = std::max(end_, at);
        return content_.ok();
    }
    bool take_level(std::uint64_t at, std::uint32_t pixel, bool has_tiles) {
        const std::uint64_t width = content_.u32be(at), height = content_.u32be(at + 4), columns = divide_up(width, 64);
        at += 8;
        // The smaller levels have no tiles; writers end their empty lists with four bytes, however wide pointers are.
        if (!has_tiles) {
            end_ = std::max(end_, at + 4);
            return content_.ok();
        }
        std::uint64_t last = 0, index = 0;
        std::uint64_t tile = pointer(at);
        for (std::uint64_t n = 0; tile != 0; ++n, tile = pointer(at))
            if (tile > last) last = tile, index = n;
        end_ = std::max(end_, at);
        if (last == 0 || columns == 0) return content_.ok();
        const std::uint64_t w = std::min<std::uint64_t>(64, width - std::min(width, index % columns * 64));
        const std::uint64_t h = std::min<std::uint64_t>(64, height - std::min(height, index / columns * 64));
        end_ = std::max(end_, end_of_tile(last, w * h, pixel));
        return content_.ok();
    }
    std::uint64_t end_of_tile(std::uint64_t at, std::uint64_t pixels, std::uint32_t pixel) {
        if (packing_ == 0) return at + pixels * pixel;
        if (packing_ == 2) {
            const Unpacked tile =
                unpack(content_, Packing::zlib, at,
                       std::min<std::uint64_t>(content_.size() - std::min(at, content_.size()), 1 << 20));
            return at + tile.packed;
        }
        // Runs, one byte of all pixels after the other.
        for (std::uint32_t plane = 0; plane < pixel; ++plane)
            for (std::uint64_t done = 0; done < pixels && content_.ok();) {
                const unsigned op = content_.u8(at++);
                std::uint64_t count = op < 127 ? op + 1U : op > 128 ? 256U - op : content_.u16be(at);
                if (op == 127 || op == 128) at += 2;
                if (count == 0) count = pixels;
                at += op <= 127 ? 1 : count;
                done += count;
            }
        return at;
    }

    Reader& content_;
    bool wide_ = false;
    unsigned packing_ = 0;
    std::uint64_t end_ = 0;
    std::set<std::uint64_t> seen_;
};

Measured measure_xcf(Reader& content) { return Xcf(content).measure(); }

Measured measure_mrw(Reader& content) {
    const std::uint64_t raw = 8 + std::uint64_t{content.u32be(4)};
    const std::uint64_t height = content.u16be(24), width = content.u16be(26);
    const unsigned storage = content.u8(34);
    if (!content.has(8, "\0PRD"sv) || height == 0 || width == 0 || (storage != 0x52 && storage != 0x59))
        return nonsense();
    const std::uint64_t pixels = height * width;
    return sized(content, raw + (storage == 0x59 ? pixels * 12 / 8 : pixels * 2), Proof::length);
}

// The directory stands at its end, and the end of the directory tells where it begins.
Measured measure_x3f(Reader& content) {
    constexpr std::uint64_t kMax = std::uint64_t{256} << 20;
    for (std::uint64_t at = 64;;) {
        const auto found = content.find("SECd", at, std::min(content.size(), kMax));
        if (!found) return broken(std::min<std::uint64_t>(content.size(), 64), "its directory is missing");
        const std::uint64_t entries = content.holds(*found, 12) ? content.u32le(*found + 8) : 0;
        const std::uint64_t end = *found + 12 + 12 * entries;
        if (entries > 0 && entries < 256 && content.holds(end, 4) && content.u32le(end) == *found)
            return whole(end + 4, Proof::length);
        at = *found + 4;
    }
}

Description describe_size_le(Reader& content, std::uint64_t) {
    return {
        {}, {}, {{"width", fmt::format("{}", content.u32le(16))}, {"height", fmt::format("{}", content.u32le(12))}}};
}

}  // namespace

const std::vector<Format>& images() {
    static const std::vector<Format> family = {
        {.name = "djvu",
         .kind = Kind::document,
         .extensions = {"djvu", "djv"},
         .signatures = {{{0, "AT&TFORM"sv}}},
         .measure = measure_djvu,
         .ending = "the size in its header",
         .checked = "the chain of chunks"},
        {.name = "dds",
         .kind = Kind::picture,
         .extensions = {"dds"},
         .signatures = {{{0, "DDS \x7C\0\0\0"sv}}},
         .measure = measure_dds,
         .describe = describe_size_le,
         .ending = "its surfaces, of the size that the header tells",
         .checked = "the header"},
        {.name = "exr",
         .kind = Kind::picture,
         .extensions = {"exr"},
         .signatures = {{{0, "\x76\x2F\x31\x01\x02"sv}}},
         .measure = measure_exr,
         .ending = "the furthest chunk of its table",
         .checked = "the table of chunks"},
        {.name = "icns",
         .kind = Kind::picture,
         .extensions = {"icns"},
         .signatures = {{{0, "icns"sv}}},
         .measure = measure_icns,
         .ending = "the size in its header",
         .checked = "the chain of icons"},
        {.name = "pcx",
         .kind = Kind::picture,
         .extensions = {"pcx"},
         .signatures = {{{0, "\x0A\x05\x01"sv}},
                        {{0, "\x0A\x03\x01"sv}},
                        {{0, "\x0A\x02\x01"sv}},
                        {{0, "\x0A\x04\x01"sv}},
                        {{0, "\x0A\0\x01"sv}}},
         .bid = bid_pcx,
         .measure = measure_pcx,
         .ending = "its last row, and the palette behind it",
         .checked = "that its runs fill all rows"},
        {.name = "sgi",
         .kind = Kind::picture,
         .extensions = {"sgi", "rgb", "rgba", "bw"},
         .signatures = {{{0, "\x01\xDA\0\1\0"sv}},
                        {{0, "\x01\xDA\1\1\0"sv}},
                        {{0, "\x01\xDA\0\2\0"sv}},
                        {{0, "\x01\xDA\1\2\0"sv}}},
         .measure = measure_sgi,
         .ending = "its last row",
         .checked = "the table of rows"},
        {.name = "emf",
         .kind = Kind::picture,
         .extensions = {"emf"},
         .signatures = {{{0, "\1\0\0\0"sv}, {40, " EMF"sv}}},
         .measure = measure_emf,
         .ending = "its end record",
         .checked = "the chain of records"},
        {.name = "wmf",
         .kind = Kind::picture,
         .extensions = {"wmf"},
         .signatures = {{{0, "\xD7\xCD\xC6\x9A\0\0"sv}}, {{0, "\1\0\x09\0\0\3"sv}}},
         .measure = measure_wmf,
         .ending = "its end record",
         .checked = "the chain of records"},
        {.name = "xcf",
         .kind = Kind::picture,
         .extensions = {"xcf"},
         .signatures = {{{0, "gimp xcf "sv}}},
         .measure = measure_xcf,
         .ending = "the furthest tile of its layers",
         .checked = "the lists of layers and tiles"},
        {.name = "mrw",
         .kind = Kind::picture,
         .extensions = {"mrw"},
         .signatures = {{{0, "\0MRM"sv}}},
         .measure = measure_mrw,
         .ending = "its rows, of the size that the header tells",
         .checked = "the header"},
        {.name = "x3f",
         .kind = Kind::picture,
         .extensions = {"x3f"},
         .signatures = {{{0, "FOVb"sv}}},
         .measure = measure_x3f,
         .ending = "the directory at its end",
         .checked = "the directory"},
    };
    return family;
}

}  // namespace dredger::formats

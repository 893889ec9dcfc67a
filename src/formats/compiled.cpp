// What compilers of all kinds leave: Java classes ("The Java Virtual Machine Specification", 4), Dalvik executables
// ("Dalvik executable format"), WebAssembly (its core specification, 5.5), message catalogs (GNU gettext manual, "The
// Format of GNU MO Files"), Flash ("SWF File Format Specification"), Type 1 fonts ("Supporting Downloadable PostScript
// Language Fonts", 3.3), bitmap fonts ("Glyph Bitmap Distribution Format", "The X11 PCF bitmap font file format"),
// embedded OpenType (W3C) and OpenType collections, program databases ("The MSF File Format" of the LLVM project).
#include <algorithm>
#include <zlib.h>

#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/characters.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

// Attributes, which fields, methods and the class have; false: they make no sense.
bool pass_attributes(Reader& content, std::uint64_t& at) {
    const unsigned count = content.u16be(at);
    at += 2;
    for (unsigned i = 0; i < count && content.ok(); ++i) at += 6 + std::uint64_t{content.u32be(at + 2)};
    return content.ok();
}

Measured measure_class(Reader& content) {
    const unsigned version = content.u16be(6), constants = content.u16be(8);
    if (version < 45 || version > 90 || constants < 3) return nonsense();
    std::uint64_t at = 10;
    for (unsigned i = 1; i < constants; ++i) {
        constexpr std::uint8_t kSizes[] = {0, 0, 0, 5, 5, 9, 9, 3, 3, 5, 5, 5, 5, 0, 0, 4, 3, 5, 5, 3, 3};
        const unsigned tag = content.u8(at);
        if (tag == 1) {
            at += 3 + std::uint64_t{content.u16be(at + 1)};
            continue;
        }
        if (tag >= std::size(kSizes) || kSizes[tag] == 0) return nonsense();
        at += kSizes[tag];
        if (tag == 5 || tag == 6) ++i;  // long and double take two places
    }
    at += 6;
    at += 2 + 2 * std::uint64_t{content.u16be(at)};  // interfaces
    for (unsigned group = 0; group < 2; ++group) {   // fields, methods
        const unsigned count = content.u16be(at);
        at += 2;
        for (unsigned i = 0; i < count; ++i) {
            at += 6;
            if (!pass_attributes(content, at)) return broken(content.size(), "its end is missing");
        }
    }
    if (!pass_attributes(content, at)) return broken(content.size(), "its end is missing");
    return sized(content, at, Proof::chain);
}

Measured measure_dex(Reader& content) {
    const std::uint64_t size = content.u32le(32);
    if (content.u32le(36) < 0x70 || content.u32le(40) != 0x12345678 || size < 0x70) return nonsense();
    if (!content.holds(0, size)) return broken(content.size(), "its end is missing", size);
    uLong sum = adler32(0, nullptr, 0);
    each_span(content, 12, size - 12, [&](std::span<const std::byte> bytes) {
        sum = adler32(sum, reinterpret_cast<const Bytef*>(bytes.data()), static_cast<uInt>(bytes.size()));
    });
    return sum == content.u32le(8) ? whole(size, Proof::checksums)
                                   : broken_between(112, size, "its checksum is off", size);
}

Measured measure_wasm(Reader& content) {
    std::uint64_t at = 8;
    unsigned sections = 0;
    int last = 0;
    // The order in which sections stand; those of names and the like stand anywhere.
    constexpr int kOrder[] = {0, 1, 2, 3, 4, 5, 7, 8, 9, 10, 12, 13, 11, 6};
    while (content.holds(at, 2)) {
        const unsigned id = content.u8(at);
        if (id >= std::size(kOrder) || (id != 0 && kOrder[id] < last)) break;
        std::uint64_t size = 0, p = at + 1;
        for (unsigned shift = 0; shift < 35; shift += 7) {
            const unsigned byte = content.u8(p++);
            size |= std::uint64_t{byte & 0x7FU} << shift;
            if ((byte & 0x80U) == 0) break;
        }
        // One without a name is none.
        if (size == 0 || (id == 0 && (content.u8(p) == 0 || content.u8(p) >= size))) break;
        if (!content.holds(p, size)) return broken_between(at, content.size(), "its end is missing", p + size);
        if (id != 0) last = kOrder[id];
        at = p + size;
        ++sections;
    }
    return sections == 0 ? nonsense() : whole(at, Proof::chain);
}

Measured measure_mo(Reader& content) {
    const bool big = content.u8(0) == 0x95;
    const auto u32 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u32be(at) : content.u32le(at)}; };
    const std::uint64_t count = u32(8), hashes = u32(20);
    if (u32(4) >> 16 > 1 || count == 0 || count > 1 << 20 || hashes > 4 << 20) return nonsense();
    std::uint64_t end = u32(24) + 4 * hashes;
    for (const std::uint64_t table : {u32(12), u32(16)}) {
        end = std::max(end, table + 8 * count);
        for (std::uint64_t i = 0; i < count && content.ok(); ++i) {
            const std::uint64_t behind = u32(table + 8 * i + 4) + u32(table + 8 * i);
            // Every string ends with a zero.
            const bool is_there = content.holds(behind, 1);
            if (!is_there && i == 0) return nonsense();
            if (is_there && content.u8(behind) != 0)
                return i == 0 ? nonsense() : broken_between(table, behind, "a message has no end");
            end = std::max(end, behind + 1);
        }
    }
    // Messages that depend on the system stand in pieces behind the others.
    if (const std::uint64_t some = u32(36); (u32(4) & 0xFFFFU) >= 1 && some <= count) {
        for (const std::uint64_t table : {u32(40), u32(44)})
            for (std::uint64_t i = 0; i < some && content.ok(); ++i) {
                const std::uint64_t message = u32(table + 4 * i);
                std::uint64_t at = message + 4, static_end = u32(message);
                for (unsigned n = 0; n < 64 && content.ok(); ++n, at += 8) {
                    static_end += u32(at);
                    if (u32(at + 4) == 0xFFFFFFFF) break;
                }
                end = std::max({end, static_end, at + 8});
            }
    }
    return sized(content, end, Proof::chain);
}

Measured measure_swf(Reader& content) {
    const unsigned version = content.u8(3);
    const std::uint64_t plain = content.u32le(4);
    if (version == 0 || version > 50 || plain < 21) return nonsense();
    if (content.u8(0) == 'F') return sized(content, plain, Proof::length);
    if (content.u8(0) == 'C') {
        const Unpacked body = unpack(content, Packing::zlib, 8, content.size() - 8);
        if (body.ended() && body.bytes + 8 == plain) return whole(8 + body.packed, Proof::checksums);
        return body.bytes < 64 ? nonsense() : broken(8 + body.packed, "it can't be unpacked to its end");
    }
    return sized(content, 17 + std::uint64_t{content.u32le(8)}, Proof::length);
}

Measured measure_pfb(Reader& content) {
    std::uint64_t at = 0;
    for (unsigned segments = 0; content.holds(at, 2) && content.u8(at) == 0x80; ++segments) {
        const unsigned type = content.u8(at + 1);
        if (type == 3) return segments < 2 ? nonsense() : whole(at + 2, Proof::chain);
        const std::uint64_t size = content.u32le(at + 2);
        if (type == 0 || type > 3 || !content.holds(at + 6, size)) break;
        at += 6 + size;
    }
    return at == 0 ? nonsense() : broken(std::min(at, content.size()), "a segment is missing");
}

Measured measure_pcf(Reader& content) {
    const std::uint64_t tables = content.u32le(4);
    if (tables == 0 || tables > 16) return nonsense();
    std::uint64_t end = 8 + 16 * tables;
    for (std::uint64_t i = 0; i < tables; ++i) {
        const std::uint64_t type = content.u32le(8 + 16 * i), form = content.u32le(8 + 16 * i + 4),
                            offset = content.u32le(8 + 16 * i + 12);
        std::uint64_t size = content.u32le(8 + 16 * i + 8);
        if (offset < 8 + 16 * tables || size == 0) return nonsense();
        // Writers state a hundred bytes for accelerators, of which there are fewer: they are fixed, with bounds of the
        // ink or without.
        constexpr std::uint64_t kAccelerators = 2, kOfBdf = 256, kHasInkBounds = 0x100;
        if ((type == kAccelerators || type == kOfBdf) && size == 100) size = (form & kHasInkBounds) != 0 ? 72 : 48;
        end = std::max(end, offset + size);
    }
    return sized(content, end, Proof::length);
}

Measured measure_eot(Reader& content) {
    const std::uint64_t size = content.u32le(0), font = content.u32le(4);
    const std::uint32_t version = content.u32le(8);
    if (size <= font || size - font > 65536 ||
        (version != 0x00010000 && version != 0x00020001 && version != 0x00020002))
        return nonsense();
    return sized(content, size, Proof::length);
}

Measured measure_collection(Reader& content) {
    const std::uint64_t fonts = content.u32be(8);
    if (fonts == 0 || fonts > 256) return nonsense();
    std::uint64_t end = 12 + 4 * fonts;
    for (std::uint64_t i = 0; i < fonts && content.ok(); ++i) {
        const std::uint64_t font = content.u32be(12 + 4 * i);
        const unsigned tables = content.u16be(font + 4);
        if (tables == 0 || tables > 256) return nonsense();
        for (unsigned t = 0; t < tables; ++t) {
            const std::uint64_t entry = font + 12 + 16 * std::uint64_t{t};
            const std::uint64_t behind = std::uint64_t{content.u32be(entry + 8)} + content.u32be(entry + 12);
            end = std::max(end, (behind + 3) / 4 * 4);
        }
    }
    if (!content.holds(0, end) && content.holds(0, end - 3)) end = content.size();
    return sized(content, end, Proof::length);
}

Measured measure_bdf(Reader& content) { return text_until(content, "\nENDFONT"); }

// Blocks; the superblock tells how many. One of them lists the blocks of the directory of streams.
Measured measure_msf(Reader& content) {
    const std::uint64_t block = content.u32le(32), blocks = content.u32le(40);
    const std::uint64_t directory = content.u32le(44), map = content.u32le(52);
    if (block < 512 || block > 65536 || (block & (block - 1)) != 0 || blocks < 3 || map == 0 || map >= blocks)
        return nonsense();
    const std::uint64_t end = block * blocks;
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    for (std::uint64_t i = 0; i < (directory + block - 1) / block; ++i)
        if (const std::uint64_t at = content.u32le(map * block + 4 * i); at == 0 || at >= blocks)
            return broken_between(block, map * block, "the list of streams makes no sense", end);
    return whole(end, Proof::length);
}

// Headers of sections, their data, then symbols and the names of these.
Measured measure_coff(Reader& content) {
    constexpr std::uint64_t kHeader = 20, kSection = 40, kSymbol = 18;
    const std::uint64_t sections = content.u16le(2), symbols = content.u32le(8), count = content.u32le(12);
    if (sections == 0 || sections > 4096 || content.u16le(16) != 0 || symbols < kHeader + kSection * sections ||
        count == 0 || count > 1 << 24)
        return nonsense();
    for (std::uint64_t i = 0; i < sections; ++i) {
        const std::uint64_t at = kHeader + kSection * i;
        const unsigned first = content.u8(at);
        const std::uint64_t size = content.u32le(at + 16), data = content.u32le(at + 20);
        if (first <= 0x20 || first >= 0x7F || (data != 0 && data + size > symbols)) return nonsense();
    }
    const std::uint64_t names = symbols + kSymbol * count, length = content.holds(names, 4) ? content.u32le(names) : 4;
    if (length < 4 || length > 1 << 28) return nonsense();
    return sized(content, names + length, Proof::length);
}

}  // namespace

const std::vector<Format>& compiled() {
    static const std::vector<Format> family = {
        {.name = "class",
         .kind = Kind::other,
         .extensions = {"class"},
         .signatures = {{{0, "\xCA\xFE\xBA\xBE\0"sv}}},
         .measure = measure_class,
         .ending = "the last of its attributes",
         .checked = "the chain of constants, fields and methods"},
        {.name = "dex",
         .kind = Kind::other,
         .extensions = {"dex"},
         .signatures = {{{0, "dex\n03"sv}}},
         .measure = measure_dex,
         .ending = "the size in its header",
         .checked = "the checksum of all of it"},
        {.name = "wasm",
         .kind = Kind::other,
         .extensions = {"wasm"},
         .signatures = {{{0, "\0asm\1\0\0\0"sv}}},
         .is_loose = true,
         .measure = measure_wasm,
         .ending = "its last section",
         .checked = "the chain of sections"},
        {.name = "mo",
         .kind = Kind::other,
         .extensions = {"mo", "gmo"},
         .signatures = {{{0, "\xDE\x12\x04\x95"sv}}, {{0, "\x95\x04\x12\xDE"sv}}},
         .measure = measure_mo,
         .ending = "its last message",
         .checked = "that every message ends"},
        {.name = "swf",
         .kind = Kind::video,
         .extensions = {"swf"},
         .signatures = {{{0, "FWS"sv}}, {{0, "CWS"sv}}, {{0, "ZWS"sv}}},
         .measure = measure_swf,
         .ending = "the size in its header, or its packed stream",
         .checked = "all of it is unpacked, where it is packed"},
        {.name = "pfb",
         .kind = Kind::other,
         .extensions = {"pfb"},
         .signatures = {{{0, "\x80\x01"sv}, {6, "%!"sv}}},
         .is_loose = true,
         .measure = measure_pfb,
         .ending = "its end segment",
         .checked = "the chain of segments"},
        {.name = "pcf",
         .kind = Kind::other,
         .extensions = {"pcf"},
         .signatures = {{{0,
                          "\x01"
                          "fcp"sv}}},
         .measure = measure_pcf,
         .ending = "the furthest of its tables",
         .checked = "the list of tables"},
        {.name = "bdf",
         .kind = Kind::other,
         .extensions = {"bdf"},
         .signatures = {{{0, "STARTFONT 2"sv}}},
         .is_loose = true,
         .measure = measure_bdf,
         .ending = "its last line",
         .checked = "that it is text"},
        {.name = "eot",
         .kind = Kind::other,
         .extensions = {"eot"},
         .signatures = {{{34, "LP"sv}, {10, "\1\0"sv}}, {{34, "LP"sv}, {10, "\2\0"sv}}},
         .measure = measure_eot,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "ttc",
         .kind = Kind::other,
         .extensions = {"ttc", "otc"},
         .signatures = {{{0, "ttcf\0"sv}}},
         .measure = measure_collection,
         .ending = "the furthest of its tables",
         .checked = "the lists of tables"},
        {.name = "msf",
         .kind = Kind::other,
         .extensions = {"pdb"},
         .signatures = {{{0, "Microsoft C/C++ MSF 7.00\r\n"sv}}},
         .measure = measure_msf,
         .ending = "the number of its blocks",
         .checked = "the list of its streams"},
        {.name = "coff",
         .kind = Kind::other,
         .extensions = {"obj"},
         .signatures = {{{0, "\x64\x86"sv}, {16, "\0\0"sv}}, {{0, "\x4C\x01"sv}, {16, "\0\0"sv}}},
         .measure = measure_coff,
         .ending = "the names of its symbols",
         .checked = "the headers of sections"},
    };
    return family;
}

}  // namespace dredger::formats

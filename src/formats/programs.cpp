// Programs and files of Windows: ELF (System V ABI), PE (Microsoft PE/COFF), Mach-O (mach-o/loader.h), shortcuts
// ([MS-SHLLINK]), event logs, registry hives, prefetch files, and torrents (BEP 3).
#include <algorithm>
#include <bit>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

Measured measure_elf(Reader& content) {
    const bool wide = content.u8(4) == 2;
    const bool big = content.u8(5) == 2;
    if (content.u8(4) < 1 || content.u8(4) > 2 || content.u8(5) < 1 || content.u8(5) > 2 || content.u8(6) != 1)
        return nonsense();
    const auto u16 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u16be(at) : content.u16le(at)}; };
    const auto word = [&](std::uint64_t at, std::uint64_t in_wide) {
        return wide ? (big ? content.u64be(in_wide) : content.u64le(in_wide))
                    : std::uint64_t{big ? content.u32be(at) : content.u32le(at)};
    };
    const std::uint64_t programs = word(28, 32);
    const std::uint64_t sections = word(32, 40);
    const std::uint64_t program_size = u16(wide ? 54 : 42), program_count = u16(wide ? 56 : 44);
    const std::uint64_t section_size = u16(wide ? 58 : 46), section_count = u16(wide ? 60 : 48);
    constexpr std::uint64_t kMax = std::uint64_t{1} << 40;
    if ((program_count > 0 && program_size != (wide ? 56U : 32U)) ||
        (section_count > 0 && section_size != (wide ? 64U : 40U)) || sections > kMax || programs > kMax ||
        program_count + section_count == 0)
        return nonsense();
    std::uint64_t end = std::max(sections + section_size * section_count, programs + program_size * program_count);
    for (std::uint64_t i = 0; i < program_count; ++i) {
        const std::uint64_t at = programs + program_size * i;
        end = std::max(end, std::min(word(at + 4, at + 8), kMax) + std::min(word(at + 16, at + 32), kMax));
    }
    for (std::uint64_t i = 0; i < section_count && sections != 0; ++i) {
        const std::uint64_t at = sections + section_size * i;
        const std::uint64_t type = big ? content.u32be(at + 4) : content.u32le(at + 4);
        if (type != 8)
            end = std::max(end, std::min(word(at + 16, at + 24), kMax) + std::min(word(at + 20, at + 32), kMax));
    }
    return sized(content, end, Proof::length);
}

// Pages of 512 bytes, the last one not full, and what is told of further parts of later formats is left to them.
Measured measure_dos_program(Reader& content) {
    constexpr std::uint64_t kPage = 512;
    const std::uint64_t last = content.u16le(2), pages = content.u16le(4), relocations = content.u16le(6),
                        header = content.u16le(8) * std::uint64_t{16};
    const std::uint64_t table = content.u16le(24);
    if (pages == 0 || last >= kPage || header < 28 || header > pages * kPage ||
        (relocations > 0 && (table < 28 || table + 4 * relocations > header)))
        return nonsense();
    return sized(content, last == 0 ? pages * kPage : (pages - 1) * kPage + last, Proof::length);
}

Measured measure_pe(Reader& content) {
    const std::uint64_t head = content.u32le(60);
    if (head < 64 || head > 65536 || !content.has(head, "PE\0\0"sv)) return measure_dos_program(content);
    const unsigned count = content.u16le(head + 6);
    const std::uint64_t optional = head + 24;
    const unsigned magic = content.u16le(optional);
    if (count == 0 || count > 96 || (magic != 0x10B && magic != 0x20B)) return nonsense();
    const std::uint64_t sections = optional + content.u16le(head + 20);
    std::uint64_t end = sections + 40 * std::uint64_t{count};
    for (unsigned i = 0; i < count; ++i) {
        const std::uint64_t size = content.u32le(sections + 40 * std::uint64_t{i} + 16);
        if (size != 0) end = std::max(end, content.u32le(sections + 40 * std::uint64_t{i} + 20) + size);
    }
    // Symbols, where some compilers leave them, and certificates stand behind the sections.
    constexpr std::uint64_t kSymbol = 18;
    const std::uint64_t symbols = content.u32le(head + 12), symbol_count = content.u32le(head + 16);
    const std::uint64_t names = symbols + kSymbol * symbol_count;
    if (symbols >= end && symbol_count != 0 && content.holds(names, 4)) end = names + content.u32le(names);
    const std::uint64_t directories = optional + (magic == 0x20B ? 112 : 96);
    const std::uint64_t certificates = content.u32le(directories + 32);
    if (certificates != 0) end = std::max(end, certificates + content.u32le(directories + 36));
    return sized(content, end, Proof::length);
}

Measured measure_macho(Reader& content) {
    const bool big = content.u8(0) == 0xFE;
    const auto u32 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u32be(at) : content.u32le(at)}; };
    const auto u64 = [&](std::uint64_t at) { return big ? content.u64be(at) : content.u64le(at); };
    const bool wide = (u32(0) & 0xFF) == 0xCF;
    const std::uint64_t commands = u32(16);
    if (u32(0) >> 8 != 0xFEEDFA || commands == 0 || commands > 1024 || u32(12) == 0 || u32(12) > 12) return nonsense();
    std::uint64_t at = wide ? 32 : 28;
    std::uint64_t end = at + u32(20);
    constexpr std::uint64_t kMax = std::uint64_t{1} << 40;
    for (std::uint64_t i = 0; i < commands; ++i) {
        const std::uint64_t length = u32(at + 4);
        if (length < 8 || !content.holds(at, length)) return nonsense();
        if (u32(at) == 1) end = std::max(end, u32(at + 32) + u32(at + 36));  // LC_SEGMENT
        if (u32(at) == 25)
            end = std::max(end, std::min(u64(at + 40), kMax) + std::min(u64(at + 48), kMax));  // LC_SEGMENT_64
        if (u32(at) == 2)
            end = std::max(
                {end, u32(at + 8) + u32(at + 12) * (wide ? 16 : 12), u32(at + 16) + u32(at + 20)});  // LC_SYMTAB
        at += length;
    }
    return sized(content, end, Proof::length);
}

Measured measure_lnk(Reader& content) {
    const std::uint32_t flags = content.u32le(20);
    if (!content.has(4, "\1\x14\2\0\0\0\0\0\xC0\0\0\0\0\0\0\x46"sv)) return nonsense();
    std::uint64_t at = 76;
    if ((flags & 1U) != 0) at += 2 + std::uint64_t{content.u16le(at)};
    if ((flags & 2U) != 0) {
        if (content.u32le(at) < 28) return nonsense();
        at += content.u32le(at);
    }
    for (unsigned bit = 2; bit < 7; ++bit)
        if ((flags >> bit & 1U) != 0) at += 2 + std::uint64_t{content.u16le(at)} * ((flags & 0x80U) != 0 ? 2 : 1);
    for (unsigned blocks = 0; blocks < 64; ++blocks) {
        const std::uint64_t length = content.u32le(at);
        if (!content.holds(at, 4)) return broken(content.size(), "its end is missing");
        if (length < 4) return whole(at + 4, Proof::chain);
        if (content.u32le(at + 4) >> 8 != 0xA00000 || !content.holds(at, length))
            return broken(std::min(at, content.size()), "a block is damaged");
        at += length;
    }
    return nonsense();
}

Measured measure_evtx(Reader& content) {
    constexpr std::uint64_t kHeader = 4096;
    constexpr std::uint64_t kChunk = 65536;
    if (crc32_of(content, 0, 120) != content.u32le(124)) return nonsense();
    std::uint64_t at = kHeader;
    const std::uint64_t end = kHeader + kChunk * content.u16le(42);
    while (at < end && content.has(at, "ElfChnk\0"sv) && content.holds(at, kChunk)) at += kChunk;
    // Logs are grown ahead: chunks that were never used are zeros.
    if (at == kHeader) return nonsense();
    return at == end ? whole(end, Proof::structure) : broken(at, "a chunk is damaged", end);
}

Measured measure_hive(Reader& content) {
    std::uint32_t sum = 0;
    for (unsigned i = 0; i < 508; i += 4) sum ^= content.u32le(i);
    if (sum != content.u32le(508)) return nonsense();
    std::uint64_t at = 4096;
    const std::uint64_t end = at + content.u32le(40);
    while (at < end && content.has(at, "hbin")) {
        const std::uint64_t length = content.u32le(at + 8);
        if (content.u32le(at + 4) != at - 4096 || length < 4096 || length % 4096 != 0 || !content.holds(at, length))
            break;
        at += length;
    }
    if (at == 4096) return nonsense();
    return at == end ? whole(end, Proof::chain) : broken(at, "a bin is damaged", end);
}

Measured measure_prefetch(Reader& content) {
    const std::uint64_t end = content.u32le(12);
    const std::uint32_t version = content.u32le(0);
    if ((version != 17 && version != 23 && version != 26 && version != 30) || end < 84 || end > 16 << 20)
        return nonsense();
    return sized(content, end, Proof::length);
}

// Bencode: dictionaries, lists, numbers and strings within each other.
std::uint64_t bencoded(Reader& content, std::uint64_t at, std::uint64_t& values) {
    std::uint64_t depth = 0;
    do {
        if (++values > 8 << 20 || !content.holds(at, 1)) return 0;
        const unsigned c = content.u8(at);
        if (c == 'd' || c == 'l') {
            ++depth;
            ++at;
        } else if (c == 'e') {
            if (depth-- == 0) return 0;
            ++at;
        } else if (c == 'i') {
            const auto end = content.find("e", at, at + 24);
            if (!end) return 0;
            at = *end + 1;
        } else if (c >= '0' && c <= '9') {
            const auto colon = content.find(":", at, at + 12);
            if (!colon) return 0;
            std::uint64_t length = 0;
            for (std::uint64_t p = at; p < *colon; ++p) {
                if (content.u8(p) < '0' || content.u8(p) > '9') return 0;
                length = length * 10 + content.u8(p) - '0';
            }
            at = *colon + 1 + length;
        } else {
            return 0;
        }
    } while (depth > 0);
    return at;
}

Measured measure_torrent(Reader& content) {
    std::uint64_t values = 0;
    const std::uint64_t end = bencoded(content, 0, values);
    return end != 0 && content.holds(0, end) && content.find("4:info", 0, end) ? whole(end, Proof::chain) : nonsense();
}

Description describe_torrent(Reader& content, std::uint64_t length) {
    Description said;
    if (const auto at = content.find("4:name", 0, length)) {
        const std::string text = content.text(*at + 6, 260);
        const std::size_t colon = text.find(':');
        const auto size = colon == std::string::npos ? 0 : static_cast<std::size_t>(std::atoi(text.c_str()));
        if (size > 0) said.title = printable(text.substr(colon + 1, size));
    }
    return said;
}

}  // namespace

const std::vector<Format>& programs() {
    static const std::vector<Format> family = {
        {.name = "elf",
         .kind = Kind::other,
         .extensions = {"elf", "so", "o"},
         .signatures = {{{0,
                          "\x7F"
                          "ELF"sv}}},
         .measure = measure_elf,
         .ending = "the furthest segment, section or table",
         .checked = "the headers"},
        {.name = "pe",
         .kind = Kind::other,
         .extensions = {"exe", "dll", "sys"},
         .signatures = {{{0, "MZ"sv}}},
         .measure = measure_pe,
         .ending = "the furthest section or certificate",
         .checked = "the headers"},
        {.name = "macho",
         .kind = Kind::other,
         .extensions = {"dylib", "macho"},
         .signatures = {{{0, "\xFE\xED\xFA\xCE"sv}},
                        {{0, "\xFE\xED\xFA\xCF"sv}},
                        {{0, "\xCE\xFA\xED\xFE"sv}},
                        {{0, "\xCF\xFA\xED\xFE"sv}}},
         .measure = measure_macho,
         .ending = "the furthest segment or symbol",
         .checked = "the load commands"},
        {.name = "lnk",
         .kind = Kind::other,
         .extensions = {"lnk"},
         .signatures = {{{0, "L\0\0\0\1\x14\2\0"sv}}},
         .measure = measure_lnk,
         .ending = "its last block",
         .checked = "the chain of its parts"},
        {.name = "evtx",
         .kind = Kind::other,
         .extensions = {"evtx"},
         .signatures = {{{0, "ElfFile\0"sv}}},
         .measure = measure_evtx,
         .ending = "the chunks that its header counts",
         .checked = "its header, and every chunk"},
        {.name = "hive",
         .kind = Kind::other,
         .extensions = {"dat", "hiv"},
         .signatures = {{{0, "regf"sv}}},
         .measure = measure_hive,
         .ending = "the length of its bins",
         .checked = "its header, and every bin"},
        {.name = "prefetch",
         .kind = Kind::other,
         .extensions = {"pf"},
         .signatures = {{{4, "SCCA"sv}}},
         .measure = measure_prefetch,
         .ending = "the length in its header",
         .checked = "the header"},
        {.name = "torrent",
         .kind = Kind::other,
         .extensions = {"torrent"},
         .signatures =
             {{{0, "d8:announce"sv}}, {{0, "d7:comment"sv}}, {{0, "d13:announce-list"sv}}, {{0, "d10:created by"sv}}},
         .measure = measure_torrent,
         .describe = describe_torrent,
         .ending = "the end of its dictionary",
         .checked = "all of its values"},
    };
    return family;
}

}  // namespace dredger::formats

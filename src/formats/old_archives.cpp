// Archives and packed streams beside the usual ones: LHA ("LHA header" of Okumura and Watanabe), ARJ (its technical
// note), cpio (POSIX 1003.1-1990 and the "new ASCII" form), ar with Debian's packages (deb(5)), RPM ("RPM File Format",
// LSB), LZ4 frames ("LZ4 Frame Format Description"), xar (its wiki's format page), WIM ("Windows Imaging File Format"),
// StuffIt, SquashFS (Documentation/filesystems/squashfs), TNEF ([MS-OXTNEF]).
#include <algorithm>
#include <bit>
#include <charconv>

#include "base/checked.h"
#include "base/text.h"
#include "formats/bytes_of_content.h"
#include "formats/characters.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

struct LhaMember {
    std::uint64_t length = 0;  // bytes, with its header; 0: there is none
};

bool is_lha_method(Reader& content, std::uint64_t at) {
    const std::string method = content.text(at, 5);
    return method.size() == 5 && method[0] == '-' && (method[1] == 'l' || method[1] == 'p') && method[4] == '-' &&
           ((method[2] == 'h' && (method[3] == 'd' || (method[3] >= '0' && method[3] <= '7') || method[3] == 'x')) ||
            (method[2] == 'z' && (method[3] == 's' || method[3] == '4' || method[3] == '5')) ||
            (method[1] == 'p' && method[2] == 'm'));
}

LhaMember lha_member(Reader& content, std::uint64_t at) {
    if (!content.holds(at, 22) || !is_lha_method(content, at + 2)) return {};
    const unsigned level = content.u8(at + 20);
    const std::uint64_t packed = content.u32le(at + 7);
    // One system's writers don't count the two bytes of the size.
    if (level == 2) return {std::uint64_t{content.u16le(at)} + packed + (content.u8(at + 23) == 'K' ? 2 : 0)};
    if (level == 3) return {std::uint64_t{content.u32le(at + 24)} + packed};
    if (level > 3) return {};
    const std::uint64_t header = std::uint64_t{content.u8(at)} + 2;
    if (header < 24 || !content.holds(at, header)) return {};
    unsigned sum = 0;
    for (std::uint64_t i = 2; i < header; ++i) sum += content.u8(at + i);
    if ((sum & 0xFFU) != content.u8(at + 1)) return {};
    // The packed size of level 1 counts the further headers too.
    return {header + packed};
}

Measured measure_lha(Reader& content) {
    std::uint64_t at = 0;
    unsigned members = 0;
    while (const std::uint64_t length = lha_member(content, at).length) {
        if (!content.holds(at, length))
            return broken_between(at, content.size(), "its last member is cut", at + length);
        at += length;
        ++members;
    }
    if (members == 0) return nonsense();
    // These end with their last member, filled to a record; all others with an empty header.
    if (content.has(2, "-pm") && content.has(at, "\x1A")) {
        while (at % 128 != 0 && content.has(at, "\x1A")) ++at;
        return whole(at, Proof::chain);
    }
    if (content.has(2, "-lzs") || content.has(2, "-pm")) return whole(at, Proof::chain);
    if (content.holds(at, 1) && content.u8(at) == 0) return whole(at + 1, Proof::chain);
    return open_ended(at, Proof::chain);
}

unsigned bid_lha(ByteView head) {
    if (head.size() < 32) return 0;
    const auto at = [&](std::size_t i) { return std::to_integer<char>(head.bytes()[i]); };
    const bool is_method = at(2) == '-' && (at(3) == 'l' || at(3) == 'p') &&
                           (at(4) == 'h' || at(4) == 'z' || at(4) == 'm') && at(6) == '-' &&
                           std::to_integer<unsigned>(head.bytes()[20]) <= 3;
    return is_method ? 36 : 0;
}

Measured measure_arj(Reader& content) {
    constexpr unsigned kMark = 0xEA60;
    std::uint64_t at = 0;
    for (unsigned headers = 0; content.holds(at, 4) && content.u16le(at) == kMark; ++headers) {
        const std::uint64_t size = content.u16le(at + 2);
        if (size == 0) return headers < 2 ? nonsense() : whole(at + 4, Proof::chain);
        if (size < 30 || size > 2600 || !content.holds(at, size + 10) ||
            crc32_of(content, at + 4, size) != content.u32le(at + 4 + size))
            return headers == 0 ? nonsense() : broken(at, "the checksum of a header is off");
        const std::uint64_t packed = headers == 0 ? 0 : content.u32le(at + 4 + 12);
        at += size + 8;
        // Further headers with checksums of their own; one of no length ends them.
        while (const std::uint64_t more = content.u16le(at)) {
            if (!content.holds(at, more + 6)) return broken(std::min(at, content.size()), "its end is missing");
            at += more + 6;
        }
        at += 2 + packed;
    }
    return at == 0 ? nonsense() : broken(std::min(at, content.size()), "a header is missing");
}

// A number of so many digits; none where something else stands there.
std::optional<std::uint64_t> digits(Reader& content, std::uint64_t at, std::size_t count, int base) {
    const std::string text = content.text(at, count);
    std::uint64_t value = 0;
    const char* const end = text.data() + text.size();
    const auto read = std::from_chars(text.data(), end, value, base);
    return text.size() == count && read.ec == std::errc() && read.ptr == end ? std::optional(value) : std::nullopt;
}

struct CpioMember {
    std::uint64_t name_at, name, size, end;  // bytes
};

std::optional<CpioMember> cpio_member(Reader& content, std::uint64_t at) {
    const auto rounded = [](std::uint64_t n) { return (n + 3) / 4 * 4; };
    if (content.has(at, "070701") || content.has(at, "070702")) {
        const auto size = digits(content, at + 54, 8, 16), name = digits(content, at + 94, 8, 16);
        if (!size || !name || *name == 0 || *name > 65536) return std::nullopt;
        const std::uint64_t data = rounded(at + 110 + *name);
        return CpioMember{at + 110, *name, *size, rounded(data + *size)};
    }
    if (content.has(at, "070707")) {
        const auto size = digits(content, at + 65, 11, 8), name = digits(content, at + 59, 6, 8);
        if (!size || !name || *name == 0 || *name > 65536) return std::nullopt;
        return CpioMember{at + 76, *name, *size, at + 76 + *name + *size};
    }
    if (content.has(at, "\xC7\x71"sv)) {
        const std::uint64_t name = content.u16le(at + 20);
        const std::uint64_t size = std::uint64_t{content.u16le(at + 22)} << 16 | content.u16le(at + 24);
        if (name == 0) return std::nullopt;
        const std::uint64_t data = at + 26 + (name + 1) / 2 * 2;
        return CpioMember{at + 26, name, size, data + (size + 1) / 2 * 2};
    }
    return std::nullopt;
}

Measured measure_cpio(Reader& content) {
    constexpr std::uint64_t kBlock = 512;
    std::uint64_t at = 0;
    while (const auto member = cpio_member(content, at)) {
        const bool is_named = content.u8(member->name_at + member->name - 1) == 0 && content.u8(member->name_at) != 0;
        if (!is_named) return at == 0 ? nonsense() : broken(at, "a header makes no sense");
        if (!content.holds(at, member->end - at))
            return at == 0 && member->size > content.size() ? nonsense()
                                                            : broken_between(at, content.size(), "its end is missing");
        if (member->name == 11 && content.has(member->name_at, "TRAILER!!!")) {
            // Written in blocks, the last of which is filled.
            const std::uint64_t filled = (member->end + kBlock - 1) / kBlock * kBlock;
            const bool is_filled = content.holds(0, filled) && content.is_zeros(member->end, filled);
            return whole(is_filled ? filled : member->end, Proof::chain);
        }
        at = member->end;
    }
    return at == 0 ? nonsense() : broken(std::min(at, content.size()), "a member is missing");
}

Measured measure_ar(Reader& content) {
    std::uint64_t at = 8;
    unsigned members = 0;
    bool is_deb = false;
    while (content.holds(at, 60) && content.has(at + 58, "`\n")) {
        std::string field = content.text(at + 48, 10);
        field.resize(std::min(field.find(' '), field.size()));
        if (field.empty() || field.find_first_not_of("0123456789") != std::string::npos) break;
        const std::uint64_t size = number_in(field).value_or(0);
        is_deb = is_deb || (members == 0 && content.has(at, "debian-binary"));
        if (!content.holds(at + 60, size))
            return broken_between(at, content.size(), "its last member is cut", at + 60 + size);
        at += 60 + size;
        // Members begin at even bytes; behind the last one of some writers nothing fills it.
        if (at % 2 != 0 && content.has(at, "\n")) ++at;
        ++members;
        if (is_deb && members == 3) return whole(at, Proof::chain, "deb");
    }
    return members == 0 ? nonsense() : open_ended(at, Proof::chain, is_deb ? "deb" : "");
}

Measured measure_rpm(Reader& content) {
    constexpr std::string_view kHeader = "\x8E\xAD\xE8\x01"sv;
    constexpr std::uint32_t kSize = 1000, kLongSize = 270;
    std::uint64_t at = 96, size = 0;
    if (!content.has(at, kHeader)) return nonsense();
    const std::uint64_t entries = content.u32be(at + 8), store = content.u32be(at + 12);
    if (entries > 4096 || store > 16 << 20) return nonsense();
    const std::uint64_t data = at + 16 + 16 * entries;
    for (std::uint64_t i = 0; i < entries; ++i) {
        const std::uint64_t entry = at + 16 + 16 * i;
        const std::uint32_t tag = content.u32be(entry), offset = content.u32be(entry + 8);
        if (tag == kSize && content.u32be(entry + 4) == 4) size = content.u32be(data + offset);
        if (tag == kLongSize) size = content.u64be(data + offset);
    }
    at = (data + store + 7) / 8 * 8;
    if (!content.has(at, kHeader) || size == 0 || size > std::uint64_t{1} << 40) return nonsense();
    return sized(content, at + size, Proof::length);
}

Measured measure_lz4(Reader& content) {
    const unsigned flags = content.u8(4), sizes = content.u8(5);
    if (flags >> 6 != 1 || (flags & 2U) != 0 || (sizes & 0x8FU) != 0 || sizes >> 4 < 4) return nonsense();
    const std::uint64_t most = std::uint64_t{1} << (8 + 2 * (sizes >> 4));
    std::uint64_t at = 7 + ((flags & 8U) != 0 ? 8 : 0) + ((flags & 1U) != 0 ? 4 : 0);
    for (unsigned blocks = 0; content.ok(); ++blocks) {
        const std::uint32_t word = content.u32le(at);
        if (word == 0) return sized(content, at + 4 + ((flags & 4U) != 0 ? 4 : 0), Proof::chain);
        const std::uint64_t size = word & 0x7FFFFFFFU;
        if (size > most) return blocks < 2 ? nonsense() : broken(at, "a block makes no sense");
        at += 4 + size + ((flags & 16U) != 0 ? 4 : 0);
    }
    return broken(content.size(), "its end is missing");
}

Measured measure_xar(Reader& content) {
    const std::uint64_t head = content.u16be(4), packed = content.u64be(8), plain = content.u64be(16);
    if (head < 28 || head > 512 || content.u16be(6) != 1 || packed == 0 || packed > 64 << 20 || plain > 256 << 20)
        return nonsense();
    const Unpacked toc = unpack(content, Packing::zlib, head, packed,
                                static_cast<std::size_t>(std::min<std::uint64_t>(plain, 16 << 20)));
    if (!toc.ended() || toc.bytes != plain) return nonsense();
    const auto number = [&](std::string_view name, std::size_t from, std::size_t to) -> std::uint64_t {
        const std::size_t at = toc.head.find(name, from);
        if (at == std::string::npos || at > to) return 0;
        return std::min(number_in(toc.head.substr(at + name.size(), 32)).value_or(0), std::uint64_t{1} << 50);
    };
    // Data and checksums lie on a heap behind it.
    std::uint64_t heap = 0;
    for (const std::string_view element :
         {"<data>"sv, "<checksum "sv, "<signature "sv, "<x-signature "sv, "<ea>"sv, "<ea "sv})
        for (std::size_t at = toc.head.find(element); at != std::string::npos; at = toc.head.find(element, at + 1)) {
            const std::size_t end = std::min(toc.head.find("</", toc.head.find("<size>", at) + 30), toc.head.size());
            const std::uint64_t length =
                std::max(number("<length>", at, end + 200),
                         element == "<data>" || element.starts_with("<ea") ? 0 : number("<size>", at, end + 200));
            heap = std::max(heap, number("<offset>", at, end + 200) + length);
        }
    return sized(content, head + packed + heap, Proof::length);
}

Measured measure_wim(Reader& content) {
    const std::uint64_t header = content.u32le(8);
    if (header != 208 && header != 148) return nonsense();
    std::uint64_t end = header;
    // Its tables: offsets, XML, boot metadata, integrity. Each has seven bytes of length, flags, and an offset.
    for (const std::uint64_t at : {0x30U, 0x48U, 0x60U, 0x7CU}) {
        const std::uint64_t size = content.u64le(at) & 0x00FFFFFFFFFFFFFFULL, offset = content.u64le(at + 8);
        if (size > std::uint64_t{1} << 44 || offset > std::uint64_t{1} << 44) return nonsense();
        end = std::max(end, offset + size);
    }
    return sized(content, end, Proof::length);
}

Measured measure_stuffit(Reader& content) {
    const std::uint64_t length = content.u32be(6);
    if (!content.has(10, "rLau") || length < 22) return nonsense();
    return sized(content, length, Proof::length);
}

Measured measure_squashfs(Reader& content) {
    constexpr std::uint64_t kPage = 4096;
    const std::uint64_t block = content.u32le(12), used = content.u64le(40);
    if (content.u16le(28) != 4 || block < 4096 || block > 1 << 20 || (block & (block - 1)) != 0 ||
        content.u16le(22) != static_cast<unsigned>(std::countr_zero(block)) || used < 96 ||
        used > std::uint64_t{1} << 44)
        return nonsense();
    const std::uint64_t filled = (used + kPage - 1) / kPage * kPage;
    return sized(content, content.holds(0, filled) && content.is_zeros(used, filled) ? filled : used, Proof::length);
}

Measured measure_tnef(Reader& content) {
    std::uint64_t at = 6;
    unsigned attributes = 0;
    for (; content.holds(at, 11); ++attributes) {
        const unsigned level = content.u8(at);
        const std::uint64_t length = content.u32le(at + 5);
        if (level != 1 && level != 2) break;
        if (!content.holds(at + 9, length + 2))
            return attributes == 0 ? nonsense() : broken_between(at, content.size(), "its last attribute is cut");
        unsigned sum = 0;
        each_span(content, at + 9, length, [&](std::span<const std::byte> bytes) {
            for (const std::byte b : bytes) sum += std::to_integer<unsigned>(b);
        });
        if ((sum & 0xFFFFU) != content.u16le(at + 9 + length))
            return attributes == 0 ? nonsense()
                                   : broken_between(at, at + 11 + length, "the checksum of an attribute is off");
        at += 11 + length;
    }
    return attributes < 2 ? nonsense() : whole(at, Proof::checksums);
}

}  // namespace

const std::vector<Format>& old_archives() {
    static const std::vector<Format> family = {
        {.name = "lha",
         .kind = Kind::archive,
         .extensions = {"lzh", "lha", "lzs", "pma"},
         .signatures = {{{2, "-lh"sv}}, {{2, "-lz"sv}}, {{2, "-pm"sv}}},
         .is_loose = true,
         .bid = bid_lha,
         .measure = measure_lha,
         .ending = "the empty header behind its last member",
         .checked = "the chain of members"},
        {.name = "arj",
         .kind = Kind::archive,
         .extensions = {"arj"},
         .signatures = {{{0, "\x60\xEA"sv}}},
         .measure = measure_arj,
         .ending = "the empty header behind its last member",
         .checked = "the checksum of every header"},
        {.name = "cpio",
         .kind = Kind::archive,
         .extensions = {"cpio"},
         .signatures = {{{0, "070701"sv}}, {{0, "070702"sv}}, {{0, "070707"sv}}, {{0, "\xC7\x71"sv}}},
         .is_loose = true,
         .measure = measure_cpio,
         .ending = "the block of its trailer",
         .checked = "the chain of members"},
        {.name = "ar",
         .kind = Kind::archive,
         .extensions = {"a", "ar", "lib"},
         .signatures = {{{0, "!<arch>\n"sv}}},
         .is_loose = true,
         .measure = measure_ar,
         .ending = "its last member",
         .checked = "the chain of members"},
        {.name = "deb",
         .kind = Kind::archive,
         .extensions = {"deb", "udeb"},
         .signatures = {{{0, "!<arch>\ndebian-binary"sv}}},
         .told_by = "ar"},
        {.name = "rpm",
         .kind = Kind::archive,
         .extensions = {"rpm"},
         .signatures = {{{0, "\xED\xAB\xEE\xDB"sv}}},
         .measure = measure_rpm,
         .ending = "the size in its signature",
         .checked = "its headers"},
        {.name = "lz4",
         .kind = Kind::archive,
         .extensions = {"lz4"},
         .signatures = {{{0, "\x04\x22\x4D\x18"sv}}},
         .measure = measure_lz4,
         .ending = "its end mark",
         .checked = "the chain of blocks"},
        {.name = "xar",
         .kind = Kind::archive,
         .extensions = {"xar", "pkg"},
         .signatures = {{{0, "xar!"sv}}},
         .measure = measure_xar,
         .ending = "the furthest content that its table tells of",
         .checked = "the table"},
        {.name = "wim",
         .kind = Kind::archive,
         .extensions = {"wim", "esd", "swm"},
         .signatures = {{{0, "MSWIM\0\0\0"sv}}},
         .measure = measure_wim,
         .ending = "the furthest of its tables",
         .checked = "the header"},
        {.name = "stuffit",
         .kind = Kind::archive,
         .extensions = {"sit"},
         .signatures = {{{0, "SIT!"sv}}},
         .measure = measure_stuffit,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "squashfs",
         .kind = Kind::archive,
         .extensions = {"squashfs", "snap", "sfs"},
         .signatures = {{{0, "hsqs"sv}}},
         .measure = measure_squashfs,
         .ending = "the size in its header, filled to a page",
         .checked = "the header"},
        {.name = "tnef",
         .kind = Kind::mail,
         .extensions = {"tnef"},
         .signatures = {{{0, "\x78\x9F\x3E\x22"sv}}},
         .is_loose = true,
         .measure = measure_tnef,
         .ending = "its last attribute",
         .checked = "the checksum of every attribute"},
    };
    return family;
}

}  // namespace dredger::formats

// Books, help and documents of programs of their own: CHM (its unofficial specification by Russotto), Windows help
// ("Windows Help File Format", Winterhoff), Palm databases with Mobipocket and AZW books, OneNote sections
// ([MS-ONESTORE]), WordPerfect (its SDK's file format), Windows Write, Microsoft Reader's books, Lotus
// worksheets ("Worksheet File Format"), dBASE tables, Berkeley DB, TeX's device independent files.
#include <algorithm>

#include "base/checked.h"
#include "base/text.h"
#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

Measured measure_chm(Reader& content) {
    const unsigned version = content.u32le(4);
    const std::uint64_t header = content.u32le(8), section = content.u64le(56);
    if (version < 2 || version > 4 || header < 0x58 || header > 4096 || section != header ||
        content.u32le(section) != 0x1FE)
        return nonsense();
    const std::uint64_t directory = content.u64le(72);
    if (!content.has(directory, "ITSP")) return nonsense();
    return sized(content, content.u64le(section + 8), Proof::length);
}

Measured measure_help(Reader& content) {
    const std::uint64_t directory = content.u32le(4), end = content.u32le(12);
    // The directory is a tree of pages behind a header of nine bytes.
    if (directory < 16 || directory + 11 > end || content.u16le(directory + 9) != 0x293B) return nonsense();
    return sized(content, end, Proof::length);
}

// Records whose places a list tells; where the last of them ends, nothing does, but that books end with a mark.
Measured measure_palm(Reader& content) {
    constexpr std::string_view kEndMark = "\xE9\x8E\x0D\x0A"sv;
    const std::uint64_t records = content.u16be(76);
    if (records == 0) return nonsense();
    std::uint64_t before = 78 + 8 * records;
    for (std::uint64_t i = 0; i < records && content.ok(); ++i) {
        const std::uint64_t at = content.u32be(78 + 8 * i);
        if (at < before) return nonsense();
        before = at;
    }
    if (!content.holds(before, 1)) return broken(content.size(), "its end is missing", before + 4);
    if (content.has(before, kEndMark)) return whole(before + 4, Proof::chain);
    // Sources and the like may stand behind the book.
    return broken(before, "nothing tells where its last record ends", before + 1);
}

Description describe_palm(Reader& content, std::uint64_t) {
    const std::uint64_t first = content.u32be(78);
    Description said;
    if (content.has(first + 16, "MOBI")) {
        const std::uint64_t at = first + content.u32be(first + 84), length = content.u32be(first + 88);
        said.title = printable(content.text(at, static_cast<std::size_t>(std::min<std::uint64_t>(length, 200))));
    }
    if (said.title.empty()) {
        const std::string name = content.text(0, 32);
        said.title = printable(name.substr(0, name.find('\0')));
        std::replace(said.title.begin(), said.title.end(), '_', ' ');
    }
    return said;
}

Measured measure_onenote(Reader& content) {
    const std::uint64_t end = content.u64le(196);
    if (end < 1024 || end > std::uint64_t{1} << 40) return nonsense();
    return sized(content, end, Proof::length);
}

Measured measure_wordperfect(Reader& content) {
    const std::uint64_t text = content.u32le(4);
    const unsigned product = content.u8(8), major = content.u8(10);
    if (text < 16 || product == 0 || product > 60) return nonsense();
    // Later versions write their size.
    const std::uint64_t end = major == 2 ? content.u32le(20) : 0;
    if (end > text) return sized(content, end, Proof::length);
    return nonsense();
}

Measured measure_write(Reader& content) {
    constexpr std::uint64_t kPage = 128;
    const std::uint64_t text_end = content.u32le(14), pages = content.u16le(96);
    if (text_end < kPage || pages * kPage < text_end || content.u16le(18) < text_end / kPage) return nonsense();
    return sized(content, pages * kPage, Proof::length);
}

Measured measure_lit(Reader& content) {
    if (content.u32le(8) != 1 || content.u32le(12) < 40) return nonsense();
    // Pieces, each with a place and a length.
    const std::uint64_t header = content.u32le(12), pieces = content.u32le(16);
    if (pieces == 0 || pieces > 16 || header > 4096) return nonsense();
    std::uint64_t end = 0;
    for (std::uint64_t i = 0; i < pieces; ++i)
        end = std::max(end, checked_add(content.u64le(header + 16 * i), content.u64le(header + 16 * i + 8))
                                .value_or(~std::uint64_t{0}));
    if (end < header) return nonsense();
    return sized(content, end, Proof::length);
}

// Records of two bytes of type and two of length, up to that of the end.
Measured measure_worksheet(Reader& content) {
    const unsigned first = content.u16le(4);
    const bool is_late = content.u16le(2) == 26;
    std::uint64_t at = 0;
    for (unsigned records = 0; content.holds(at, 4); ++records) {
        const unsigned type = content.u16le(at);
        const std::uint64_t length = content.u16le(at + 2);
        if (type == 1 && length == 0)
            return records < 3 ? nonsense() : whole(at + 4, Proof::chain, is_late || first >= 0x1000 ? "wk3" : "wk1");
        if (type > 0x300) break;
        at += 4 + length;
    }
    return at == 0 ? nonsense() : broken(std::min(at, content.size()), "its end is missing");
}

struct DbaseHeader {
    std::uint64_t length, record, count;
};

std::optional<DbaseHeader> dbase_header(ByteView head) {
    const auto byte = [&](std::size_t at) { return head.u8(at).value_or(0); };
    constexpr std::string_view kVersions = "\x02\x03\x04\x05\x30\x31\x32\x43\x63\x83\x8B\x8E\xCB\xE5\xF5\xFB"sv;
    if (kVersions.find(static_cast<char>(byte(0))) == std::string_view::npos || byte(2) == 0 || byte(2) > 12 ||
        byte(3) == 0 || byte(3) > 31)
        return std::nullopt;
    const std::uint64_t count = head.u32le(4).value_or(0), length = head.u16le(8).value_or(0),
                        record = head.u16le(10).value_or(0);
    if (length < 65 || record < 2 || length % 32 > 8) return std::nullopt;
    // Fields: names of letters, and types; their widths fill a record.
    std::uint64_t width = 1;
    std::size_t at = 32;
    for (; at + 32 < length && byte(at) != 0x0D; at += 32) {
        constexpr std::string_view kTypes = "CNLDMFBGPTYI@O+VXW0Q";
        const unsigned letter = byte(at);
        if (!(is_letter(letter) || letter == '_' || letter >= 0x80) ||
            kTypes.find(static_cast<char>(byte(at + 11))) == std::string_view::npos)
            return std::nullopt;
        width += byte(at + 16) + (byte(at + 11) == 'C' ? byte(at + 17) * 256U : 0U);
    }
    if (byte(at) != 0x0D || width != record) return std::nullopt;
    return DbaseHeader{length, record, count};
}

unsigned bid_dbase(ByteView head) { return dbase_header(head) ? 48 : 0; }

Measured measure_dbase(Reader& content) {
    const std::string head = content.text(0, 16384);
    const auto header = dbase_header(view_of(head));
    if (!header) return nonsense();
    const std::uint64_t end = header->length + header->record * header->count;
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    for (std::uint64_t i = 0, at = header->length; i < header->count; ++i, at += header->record)
        if (const unsigned mark = content.u8(at); mark != ' ' && mark != '*')
            return broken(at, "a record makes no sense", end);
    return whole(end + (content.has(end, "\x1A") ? 1 : 0), Proof::chain);
}

// Pages that know their numbers.
Measured measure_berkeley(Reader& content) {
    const bool big = content.u8(12) == 0;
    const auto u32 = [&](std::uint64_t at) { return std::uint64_t{big ? content.u32be(at) : content.u32le(at)}; };
    const std::uint64_t page = u32(20), last = u32(32);
    if (page < 512 || page > 65536 || (page & (page - 1)) != 0 || u32(8) != 0 || last > std::uint64_t{1} << 32)
        return nonsense();
    const std::uint64_t end = (last + 1) * page;
    if (!content.holds(0, end)) return sized(content, end, Proof::length);
    for (std::uint64_t i = 1; i <= last; ++i)
        if (const std::uint64_t number = u32(i * page + 8);
            number != i && (number != 0 || !content.is_zeros(i * page, i * page + 16)))
            return broken(i * page, "a page is none of its own", end);
    return whole(end, Proof::chain);
}

// From the preamble to the bytes that fill the last word.
Measured measure_dvi(Reader& content) {
    constexpr unsigned kPostPost = 249, kFill = 223;
    if (content.u32be(2) != 25400000 || content.u32be(6) != 473628672) return nonsense();
    for (std::uint64_t at = 15; const auto found = content.find("\x02\xDF\xDF\xDF\xDF"sv, at, content.size());) {
        const std::uint64_t post = *found >= 5 && content.u8(*found - 5) == kPostPost ? content.u32be(*found - 4) : 0;
        if (post != 0 && post < *found && content.u8(post) == 248) {
            std::uint64_t end = *found + 1;
            while (content.holds(end, 1) && content.u8(end) == kFill && end - *found <= 8) ++end;
            return whole(end, Proof::chain);
        }
        at = *found + 1;
    }
    return broken(content.size(), "its end is missing");
}

}  // namespace

const std::vector<Format>& books() {
    static const std::vector<Format> family = {
        {.name = "chm",
         .kind = Kind::document,
         .extensions = {"chm"},
         .signatures = {{{0, "ITSF"sv}}},
         .measure = measure_chm,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "hlp",
         .kind = Kind::document,
         .extensions = {"hlp"},
         .signatures = {{{0, "\x3F\x5F\x03\0"sv}}},
         .measure = measure_help,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "mobi",
         .kind = Kind::document,
         .extensions = {"mobi", "azw", "azw3", "prc"},
         .signatures = {{{60, "BOOKMOBI"sv}}},
         .measure = measure_palm,
         .describe = describe_palm,
         .ending = "the end mark of its last record",
         .checked = "the list of records"},
        {.name = "pdb",
         .kind = Kind::document,
         .extensions = {"pdb"},
         .signatures = {{{60, "TEXtREAd"sv}}, {{60, "PNRdPPrs"sv}}},
         .measure = measure_palm,
         .describe = describe_palm,
         .ending = "the end mark of its last record",
         .checked = "the list of records"},
        {.name = "onenote",
         .kind = Kind::document,
         .extensions = {"one", "onetoc2"},
         .signatures = {{{0, "\xE4\x52\x5C\x7B\x8C\xD8\xA7\x4D\xAE\xB1\x53\x78\xD0\x29\x96\xD3"sv}},
                        {{0, "\xA1\x2F\xFF\x43\xD9\xEF\x76\x4C\x9E\xE2\x10\xEA\x57\x22\x76\x5F"sv}}},
         .measure = measure_onenote,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "wordperfect",
         .kind = Kind::document,
         .extensions = {"wpd", "wpg", "wpt"},
         .signatures = {{{0, "\xFF\x57\x50\x43"sv}}},
         .measure = measure_wordperfect,
         .ending = "the size in its header",
         .checked = "the header"},
        {.name = "write",
         .kind = Kind::document,
         .extensions = {"wri"},
         .signatures = {{{0, "\x31\xBE\0\0\0\xAB\0\0"sv}}, {{0, "\x32\xBE\0\0\0\xAB\0\0"sv}}},
         .measure = measure_write,
         .ending = "its pages, as many as the header tells",
         .checked = "the header"},
        {.name = "lit",
         .kind = Kind::document,
         .extensions = {"lit"},
         .signatures = {{{0, "ITOLITLS"sv}}},
         .measure = measure_lit,
         .ending = "the furthest of its pieces",
         .checked = "the header"},
        {.name = "wk1",
         .kind = Kind::document,
         .extensions = {"wk1", "wks", "wq1"},
         .signatures = {{{0, "\0\0\2\0\x04\x04"sv}}, {{0, "\0\0\2\0\x06\x04"sv}}, {{0, "\0\0\2\0\x20\x51"sv}}},
         .is_loose = true,
         .measure = measure_worksheet,
         .ending = "its end record",
         .checked = "the chain of records"},
        {.name = "wk3",
         .kind = Kind::document,
         .extensions = {"wk3", "wk4", "123"},
         .signatures = {{{0, "\0\0\x1A\0\0\x10\x04\0"sv}}, {{0, "\0\0\x1A\0\2\x10\x04\0"sv}}},
         .measure = measure_worksheet,
         .ending = "its end record",
         .checked = "the chain of records"},
        {.name = "dbase",
         .kind = Kind::database,
         .extensions = {"dbf"},
         .signatures =
             {{{0, "\x03"sv}}, {{0, "\x02"sv}}, {{0, "\x30"sv}}, {{0, "\x83"sv}}, {{0, "\x8B"sv}}, {{0, "\xF5"sv}}},
         .bid = bid_dbase,
         .measure = measure_dbase,
         .ending = "its records, as many as the header tells",
         .checked = "the fields, and the mark of every record"},
        {.name = "bdb",
         .kind = Kind::database,
         .extensions = {"db", "bdb"},
         .signatures = {{{12, "\x62\x31\x05\0"sv}},
                        {{12, "\0\x05\x31\x62"sv}},
                        {{12, "\x61\x15\x06\0"sv}},
                        {{12, "\0\x06\x15\x61"sv}},
                        {{12, "\x53\x22\x04\0"sv}}},
         .measure = measure_berkeley,
         .ending = "its last page",
         .checked = "the number of every page"},
        {.name = "dvi",
         .kind = Kind::document,
         .extensions = {"dvi"},
         .signatures = {{{0, "\xF7\x02\x01\x83\x92\xC0\x1C\x3B"sv}}},
         .is_loose = true,
         .measure = measure_dvi,
         .ending = "the bytes that fill its last word",
         .checked = "the postamble"},
    };
    return family;
}

}  // namespace dredger::formats

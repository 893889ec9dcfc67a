// Databases: SQLite (sqlite.org/fileformat2.html), Access, KeePass (KDBX 3.1 and 4), and Outlook's stores: PST and OST
// ([MS-PST]), DBX of Outlook Express.
#include <algorithm>
#include <fmt/format.h>

#include "base/digest.h"
#include "base/text.h"
#include "formats/families.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

class SqliteFile {
  public:
    explicit SqliteFile(Reader& content) : content_(content) {}

    Measured measure() {
        page_ = content_.u16be(16) == 1 ? 65536 : content_.u16be(16);
        count_ = content_.u32be(28);
        if (page_ < 512 || (page_ & (page_ - 1)) != 0 || content_.u8(21) != 64 || content_.u8(22) != 32 ||
            content_.u8(23) != 32 || content_.u8(18) > 2 || content_.u8(19) > 2 || !is_tree_page(1))
            return nonsense();
        // The count is right where it was written together with the change counter.
        if (count_ == 0 || content_.u32be(24) != content_.u32be(92))
            return open_ended(std::min(pages_that_look_right() * page_, content_.size()), Proof::chain);
        const std::uint64_t end = count_ * page_;
        if (!content_.holds(0, end)) return broken(content_.size(), "its end is missing", end);
        if (!check_tree(1, 0, true) || !check_tables())
            return broken(std::min(bad_, end), "a page makes no sense", end);
        return whole(end, Proof::chain);
    }

  private:
    std::uint64_t place(std::uint64_t page) const { return (page - 1) * page_; }
    std::uint64_t header(std::uint64_t page) const { return place(page) + (page == 1 ? 100 : 0); }

    bool is_tree_page(std::uint64_t page) {
        const unsigned type = content_.u8(header(page));
        if (type != 2 && type != 5 && type != 10 && type != 13) return false;
        const std::uint64_t cells = content_.u16be(header(page) + 3);
        const std::uint64_t start = content_.u16be(header(page) + 5);
        return cells * 2 + 8 <= page_ && (start == 0 || start <= page_) && content_.u8(header(page) + 7) <= 60;
    }

    // The first page is the root of the schema, and no other page points to it.
    bool check_tree(std::uint64_t page, unsigned depth, bool is_schema) {
        if (page == 0 || page > count_ || (page == 1 && seen_ != 0) || depth > 20 || ++seen_ > count_ ||
            !is_tree_page(page)) {
            bad_ = page == 0 || page > count_ ? place(1) : place(page);
            return false;
        }
        const std::uint64_t at = header(page);
        const unsigned type = content_.u8(at);
        const unsigned cells = content_.u16be(at + 3);
        const bool inner = type == 2 || type == 5;
        for (unsigned i = 0; i < cells; ++i) {
            const std::uint64_t cell = place(page) + content_.u16be(at + (inner ? 12 : 8) + 2 * std::uint64_t{i});
            if (cell < at + 8 || cell + 4 > place(page) + page_) {
                bad_ = place(page);
                return false;
            }
            if (inner && !check_tree(content_.u32be(cell), depth + 1, is_schema)) return false;
            if (!inner && is_schema) note_root(cell);
        }
        return !inner || check_tree(content_.u32be(at + 8), depth + 1, is_schema);
    }

    std::uint64_t variable(std::uint64_t& at) {
        std::uint64_t value = 0;
        for (unsigned i = 0; i < 9; ++i) {
            const unsigned byte = content_.u8(at++);
            if (i == 8) return value << 8 | byte;
            value = value << 7 | (byte & 127U);
            if (byte < 128) break;
        }
        return value;
    }

    // The root page of a table, the fourth column of its row in the schema.
    void note_root(std::uint64_t cell) {
        std::uint64_t at = cell;
        variable(at);  // bytes of the row
        variable(at);  // its number
        const std::uint64_t start = at;
        const std::uint64_t head = variable(at);
        std::uint64_t data = start + head;
        for (unsigned column = 0; column < 4 && at < start + head; ++column) {
            static constexpr unsigned kSizes[] = {0, 1, 2, 3, 4, 6, 8, 8, 0, 0, 0, 0};
            const std::uint64_t type = variable(at);
            const std::uint64_t size = type >= 12 ? (type - 12) / 2 : kSizes[type];
            if (column == 3 && type >= 1 && type <= 4) {
                std::uint64_t root = 0;
                for (std::uint64_t i = 0; i < size; ++i) root = root << 8 | content_.u8(data + i);
                if (root != 0) roots_.push_back(root);
            }
            data += size;
        }
    }

    bool check_tables() {
        return std::all_of(roots_.begin(), roots_.end(),
                           [&](std::uint64_t root) { return check_tree(root, 0, false); });
    }

    std::uint64_t pages_that_look_right() {
        std::uint64_t page = 1;
        while (content_.holds(place(page + 1), page_) &&
               (is_tree_page(page + 1) || content_.u32be(place(page + 1)) <= page + 65536))
            ++page;
        return page;
    }

    Reader& content_;
    std::uint64_t page_ = 0, count_ = 0, seen_ = 0, bad_ = 0;
    std::vector<std::uint64_t> roots_;
};

Measured measure_sqlite(Reader& content) { return SqliteFile(content).measure(); }

// Pages that begin with their kind; nothing tells how many there are.
Measured measure_access(Reader& content) {
    const std::uint64_t page = content.u8(20) == 0 ? 2048 : 4096;
    std::uint64_t at = page;
    while (content.holds(at, page) && content.u8(at) >= 1 && content.u8(at) <= 9 && content.u8(at + 1) <= 1) at += page;
    return at < 8 * page ? nonsense() : open_ended(at, Proof::chain);
}

// Version 3: fields, then blocks of a cipher up to the end of the file, which only the zeros behind it show.
Measured measure_kdbx3(Reader& content) {
    constexpr std::uint64_t kSector = 512, kCipherBlock = 16, kMost = 64 << 20;
    std::uint64_t at = 12;
    bool is_in_blocks = false;
    for (unsigned n = 0;; ++n) {
        const unsigned id = content.u8(at);
        const std::uint64_t length = content.u16le(at + 1);
        if (id > 10 || n > 64 || !content.holds(at, 3 + length)) return nonsense();
        is_in_blocks = is_in_blocks || (id == 2 && content.has(at + 3, "\x31\xC1\xF2\xE6"sv));
        at += 3 + length;
        if (id == 0) break;
    }
    const std::uint64_t data = at, limit = std::min(content.size(), data + kMost);
    for (std::uint64_t filled = (data / kSector + 1) * kSector; filled <= limit; filled += kSector) {
        std::uint64_t end = filled;
        while (end > data && filled - end < kSector && content.u8(end - 1) == 0) --end;
        if (filled - end < 8) continue;
        // Only one of the ciphers fills its last block.
        if (is_in_blocks) end = data + (end - data + kCipherBlock - 1) / kCipherBlock * kCipherBlock;
        return end > data ? open_ended(end, Proof::length) : nonsense();
    }
    return broken(std::min(data, content.size()), "nothing shows where it ends");
}

Measured measure_kdbx(Reader& content) {
    const unsigned major = content.u16le(10);
    if (major == 2 || major == 3) return measure_kdbx3(content);
    if (major != 4) return nonsense();
    std::uint64_t at = 12;
    for (unsigned n = 0;; ++n) {
        const unsigned id = content.u8(at);
        const std::uint64_t length = content.u32le(at + 1);
        if (id > 12 || length > 1 << 20 || n > 64 || !content.holds(at, 5 + length)) return nonsense();
        at += 5 + length;
        if (id == 0) break;
    }
    Sha256 sum;
    const std::string head = content.text(0, static_cast<std::size_t>(at));
    sum.add(std::as_bytes(std::span(head)));
    if (sum.finish() != hexadecimal(view_of(content.text(at, 32)).bytes())) return nonsense();
    at += 64;
    for (;;) {
        const std::uint64_t length = content.u32le(at + 32);
        if (length > 64 << 20 || !content.holds(at, 36 + length))
            return broken(std::min(at, content.size()), "a block is damaged");
        at += 36 + length;
        if (length == 0) return whole(at, Proof::chain);
    }
}

// [MS-PST] 2.2.2.6: the length stands in the root structure; its checksum is a CRC-32 without the usual inversions.
std::uint32_t uninverted_crc(Reader& content, std::uint64_t at, std::size_t length) {
    const std::string bytes = content.text(at, length);
    return ~crc32(std::as_bytes(std::span(bytes)), 0xFFFFFFFF);
}

// Whether the pages that map a store's space stand where they must, each with its own sum: AMap pages ([MS-PST]
// 2.2.2.7.2), one for as many bytes as it has bits. In the newest form pages have 4 KiB and blocks are cut to 512
// bytes.
bool has_maps(Reader& content, unsigned version, std::uint64_t end) {
    constexpr unsigned kFirstUnicode = 23, kFirstOf4K = 36;
    constexpr std::uint8_t kAMap = 0x84;
    const bool is_4k = version >= kFirstOf4K;
    const std::uint64_t page = is_4k ? 4096 : 512, trailer = is_4k ? 24 : version >= kFirstUnicode ? 16 : 12;
    const std::uint64_t bits = is_4k ? 4072 : 496, unit = is_4k ? 512 : 64, first = is_4k ? 0x22000 : 0x4400;
    const std::uint64_t sum_at = page - trailer + (version >= kFirstUnicode ? 4 : 8);
    for (std::uint64_t at = first; at + page <= end && content.ok(); at += bits * 8 * unit) {
        const std::uint64_t kind = at + page - trailer;
        if (!content.holds(at, page) || content.u8(kind) != kAMap || content.u8(kind + 1) != kAMap) return false;
        if (uninverted_crc(content, at, static_cast<std::size_t>(page - trailer)) != content.u32le(at + sum_at))
            return false;
    }
    return content.ok();
}

Measured measure_pst(Reader& content) {
    const unsigned version = content.u16le(10);
    const bool wide = version >= 23;
    const bool is_store = content.has(8, "SM") || content.has(8, "SO");  // "SO" of an offline store
    if (!is_store || !(version == 14 || version == 15 || wide)) return nonsense();
    if (uninverted_crc(content, 8, 471) != content.u32le(4)) return nonsense();
    const std::uint64_t end = wide ? content.u64le(184) : content.u32le(168);
    if (end < 512 || end > std::uint64_t{1} << 50) return nonsense();
    return sized(content, end, has_maps(content, version, end) ? Proof::chain : Proof::length);
}

Measured measure_dbx(Reader& content) {
    const std::uint64_t end = content.u32le(0x7C);
    if (end < 0x24BC || end % 4 != 0) return nonsense();
    return sized(content, end, Proof::length);
}

}  // namespace

const std::vector<Format>& databases() {
    static const std::vector<Format> family = {
        {.name = "sqlite",
         .kind = Kind::database,
         .extensions = {"sqlite", "sqlite3", "db3"},
         .signatures = {{{0, "SQLite format 3\0"sv}}},
         .measure = measure_sqlite,
         .ending = "the pages that its header counts",
         .checked = "the pages of every table"},
        {.name = "access",
         .kind = Kind::database,
         .extensions = {"mdb", "accdb"},
         .signatures = {{{0, "\0\1\0\0Standard Jet DB"sv}}, {{0, "\0\1\0\0Standard ACE DB"sv}}},
         .measure = measure_access,
         .ending = "the last page of a known kind",
         .checked = "the kind of every page"},
        {.name = "kdbx",
         .kind = Kind::database,
         .extensions = {"kdbx"},
         .signatures = {{{0, "\x03\xD9\xA2\x9A\x67\xFB\x4B\xB5"sv}}},
         .measure = measure_kdbx,
         .ending = "its empty last block, or zeros",
         .checked = "the checksum of its header"},
        {.name = "pst",
         .kind = Kind::mail,
         .extensions = {"pst", "ost"},
         .signatures = {{{0, "!BDN"sv}}},
         .measure = measure_pst,
         .ending = "the length in its header",
         .checked = "the checksums of its header and of the maps of its space"},
        {.name = "dbx",
         .kind = Kind::mail,
         .extensions = {"dbx"},
         .signatures = {{{0, "\xCF\xAD\x12\xFE"sv}}},
         .measure = measure_dbx,
         .ending = "the length in its header",
         .checked = "the header"},
    };
    return family;
}

}  // namespace dredger::formats

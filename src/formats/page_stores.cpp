// Databases of numbered pages: InnoDB's tablespaces (MySQL Internals Manual, "InnoDB Page Structure"; MariaDB's as its
// documentation tells), SQL Server's primary files (pages as "SQL Server Storage Engine" describes them), Firebird's
// ("Firebird Internals", On-Disk Structure).
#include <algorithm>

#include "base/crc32c.h"
#include "formats/bytes_of_content.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

std::uint32_t crc32c_of(Reader& content, std::uint64_t at, std::size_t length) {
    const std::string bytes = content.text(at, length);
    return crc32c(std::as_bytes(std::span(bytes)));
}

// One file of a tablespace. Its first page tells how many there are.
class Tablespace {
  public:
    explicit Tablespace(Reader& content) : content_(content) {}

    Measured measure() {
        constexpr std::uint64_t kMaxPages = std::uint64_t{1} << 32;
        space_ = content_.u32be(34);
        const std::uint32_t flags = content_.u32be(54);
        sums_whole_page_ = (flags & 0x10U) != 0 && (flags & 0x0FU) >= 3;
        const unsigned shift = sums_whole_page_ ? flags & 0x0FU : flags >> 6 & 0x0FU;
        page_ = shift == 0 ? 16384 : std::uint64_t{512} << shift;
        const std::uint64_t pages = content_.u32be(46);
        if (content_.u32be(38) != space_ || page_ < 1024 || page_ > 65536 || pages == 0 || pages >= kMaxPages)
            return nonsense();
        bool are_summed = true;
        for (std::uint64_t page = 0; page < pages; ++page) {
            const std::uint64_t at = page * page_;
            if (!content_.holds(at, page_)) return broken(content_.size(), "its end is missing", pages * page_);
            if (content_.u32be(at + 4) == 0 && page != 0 && content_.is_zeros(at, at + page_)) continue;
            if (content_.u32be(at + 4) != page || content_.u32be(at + 34) != space_)
                return page == 0 ? nonsense() : broken(at, "a page has another number", pages * page_);
            are_summed = are_summed && is_summed(at);
        }
        return whole(pages * page_, are_summed ? Proof::checksums : Proof::chain);
    }

  private:
    bool is_summed(std::uint64_t at) {
        const auto size = static_cast<std::size_t>(page_);
        if (sums_whole_page_) return crc32c_of(content_, at, size - 4) == content_.u32be(at + page_ - 4);
        return (crc32c_of(content_, at + 4, 22) ^ crc32c_of(content_, at + 38, size - 46)) == content_.u32be(at);
    }

    Reader& content_;
    std::uint64_t page_ = 0;
    std::uint32_t space_ = 0;
    bool sums_whole_page_ = false;
};

Measured measure_innodb(Reader& content) { return Tablespace(content).measure(); }

// Every page tells its number and that of its file; extents that were never used are zeros.
Measured measure_mdf(Reader& content) {
    constexpr std::uint64_t kPage = 8192, kLeast = 8;
    const unsigned file = content.u16le(36);
    std::uint64_t page = 0, used = 0;
    for (; content.holds(page * kPage, kPage); ++page) {
        const std::uint64_t at = page * kPage;
        if (content.u8(at) == 1 && content.u32le(at + 32) == page && content.u16le(at + 36) == file) {
            used = page + 1;
        } else if (!content.is_zeros(at, at + kPage)) {
            break;
        }
    }
    return used < kLeast ? nonsense() : open_ended(used * kPage, Proof::chain);
}

// Pages begin with their kind; nothing tells how many there are.
Measured measure_firebird(Reader& content) {
    constexpr unsigned kMaxKind = 10;
    const std::uint64_t page = content.u16le(16);
    if (page < 1024 || page > 32768 || (page & (page - 1)) != 0 || (content.u16le(18) & 0x8000U) == 0)
        return nonsense();
    std::uint64_t at = page;
    while (content.holds(at, page) && content.u8(at) >= 1 && content.u8(at) <= kMaxKind && content.u8(at + 1) < 64)
        at += page;
    return at < 8 * page ? nonsense() : open_ended(at, Proof::chain);
}

}  // namespace

const std::vector<Format>& page_stores() {
    static const std::vector<Format> family = {
        {.name = "innodb",
         .kind = Kind::database,
         .extensions = {"ibd"},
         .signatures = {{{4, "\0\0\0\0"sv}, {24, "\0\x08\0\0\0\0\0\0\0\0"sv}}},
         .measure = measure_innodb,
         .ending = "the number of pages in its first one",
         .checked = "the number and checksum of every page"},
        {.name = "mdf",
         .kind = Kind::database,
         .extensions = {"mdf", "ndf"},
         .signatures = {{{0, "\x01\x0F"sv}, {32, "\0\0\0\0\x01\0"sv}}},
         .measure = measure_mdf,
         .ending = "its last page",
         .checked = "the number of every page"},
        {.name = "firebird",
         .kind = Kind::database,
         .extensions = {"fdb"},
         .signatures = {{{0, "\x01\0\x39\x30"sv}}},
         .is_loose = true,
         .measure = measure_firebird,
         .ending = "its last page",
         .checked = "the kind of every page"},
    };
    return family;
}

}  // namespace dredger::formats

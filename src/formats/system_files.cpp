// Files that systems and phones keep for themselves: binary property lists (Apple's CFBinaryPList.c), AppleDouble (RFC
// 1740), the Finder's stores of how folders look ("DS_Store Format"), Windows' caches of thumbnails,
// phones' lists of what was backed up ("MBDB", as its readers describe it).
#include <algorithm>

#include "base/checked.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

// Objects one behind the other, a table of their places, and a trailer that tells where the table is.
class PropertyList {
  public:
    explicit PropertyList(Reader& content) : content_(content) {}

    Measured measure() {
        constexpr std::uint64_t kTrailer = 32, kMaxObjects = 4 << 20;
        // How wide references are stands in the trailer only.
        for (const unsigned width : {1U, 2U, 3U, 4U}) {
            std::uint64_t at = 8, objects = 0;
            while (objects < kMaxObjects && content_.holds(at, 1)) {
                if (objects > 0)
                    if (const auto end = end_with_table(at, objects, width))
                        return whole(*end + kTrailer, Proof::chain);
                const std::uint64_t length = object(at, width);
                if (length == 0 || !content_.holds(at, length)) break;
                at += length;
                ++objects;
            }
        }
        return nonsense();
    }

  private:
    // Bytes of the object at `at`; 0: it is none.
    std::uint64_t object(std::uint64_t at, unsigned width) {
        const unsigned head = content_.u8(at), type = head >> 4;
        std::uint64_t count = head & 15U, more = 0;
        const bool is_counted =
            type == 4 || type == 5 || type == 6 || type == 7 || type == 10 || type == 12 || type == 13;
        if (is_counted && count == 15) {
            if (!content_.holds(at, 2) || content_.u8(at + 1) >> 4 != 1) return 0;
            const unsigned bytes = 1U << (content_.u8(at + 1) & 15U);
            if (bytes > 8 || !content_.holds(at, 2 + bytes)) return 0;
            count = 0;
            for (unsigned i = 0; i < bytes; ++i) count = count << 8 | content_.u8(at + 2 + i);
            if (count > std::uint64_t{1} << 32) return 0;
            more = 1 + bytes;
        }
        switch (type) {
            case 0: return head == 0 || head == 8 || head == 9 || head == 15 ? 1 : 0;
            case 1: return count <= 4 ? 1 + (std::uint64_t{1} << count) : 0;
            case 2: return count == 2 || count == 3 ? 1 + (std::uint64_t{1} << count) : 0;
            case 3: return count == 3 ? 9 : 0;
            case 4:
            case 5:
            case 7: return 1 + more + count;
            case 6: return 1 + more + 2 * count;
            case 8: return 2 + count;
            case 10:
            case 12: return 1 + more + count * width;
            case 13: return 1 + more + 2 * count * width;
            default: return 0;
        }
    }

    // Where the table ends, where it begins at `at` and the trailer behind it says so.
    std::optional<std::uint64_t> end_with_table(std::uint64_t at, std::uint64_t objects, unsigned width) {
        for (const unsigned bytes : {1U, 2U, 3U, 4U}) {
            const std::uint64_t trailer = at + bytes * objects;
            if (content_.holds(trailer, 32) && content_.u8(trailer + 6) == bytes && content_.u8(trailer + 7) == width &&
                content_.u64be(trailer + 8) == objects && content_.u64be(trailer + 24) == at)
                return trailer;
        }
        return std::nullopt;
    }

    Reader& content_;
};

Measured measure_property_list(Reader& content) { return PropertyList(content).measure(); }

Measured measure_appledouble(Reader& content) {
    const unsigned entries = content.u16be(24);
    if (entries == 0 || entries > 32) return nonsense();
    std::uint64_t end = 26 + 12 * std::uint64_t{entries};
    for (unsigned i = 0; i < entries; ++i) {
        const std::uint64_t entry = 26 + 12 * std::uint64_t{i}, id = content.u32be(entry),
                            offset = content.u32be(entry + 4);
        if (id == 0 || id > 64 || offset < 26 + 12 * std::uint64_t{entries}) return nonsense();
        end = std::max(end, offset + content.u32be(entry + 8));
    }
    return sized(content, end, Proof::length);
}

// A buddy allocator; what its root tells to be free and taken makes the size.
Measured measure_finder_store(Reader& content) {
    const std::uint64_t root = std::uint64_t{content.u32be(8)} + 4, size = content.u32be(12);
    if (content.u32be(16) + std::uint64_t{4} != root || size < 32 || size > 1 << 20 || root > 1 << 26)
        return nonsense();
    const std::uint64_t blocks = content.u32be(root);
    if (blocks == 0 || blocks > 1 << 16) return nonsense();
    std::uint64_t end = root + size;
    for (std::uint64_t i = 0; i < blocks; ++i) {
        const std::uint32_t address = content.u32be(root + 8 + 4 * i);
        if ((address & 31U) > 28) return nonsense();
        end = std::max(end, 4 + std::uint64_t{address & ~31U} + (std::uint64_t{1} << (address & 31U)));
    }
    return sized(content, end, Proof::length);
}

Measured measure_thumbcache(Reader& content) {
    const unsigned version = content.u32le(4);
    const std::uint64_t first = content.u32le(version >= 30 ? 16 : 12);
    std::uint64_t at = first;
    if (first < 24 || first > 64 || version < 20 || version > 64) return nonsense();
    unsigned entries = 0;
    while (content.has(at, "CMMM") && content.holds(at, 8)) {
        const std::uint64_t size = content.u32le(at + 4);
        if (size < 32 || !content.holds(at, size)) break;
        at += size;
        ++entries;
    }
    return entries == 0 ? nonsense() : open_ended(at, Proof::chain);
}

// The list of files in a phone's backup: records one behind the other, of strings with their length before them.
Measured measure_backup_list(Reader& content) {
    constexpr std::uint64_t kNumbers = 38;  // mode, inode, owners, three times, length and class
    std::uint64_t at = 6, records = 0;
    const auto skip_string = [&] {
        const unsigned length = content.holds(at, 2) ? content.u16be(at) : 0x8000U;
        if (length != 0xFFFF && (length > 8192 || !content.holds(at + 2, length))) return false;
        at += 2 + (length == 0xFFFF ? 0 : length);
        return true;
    };
    const auto skip_strings = [&](unsigned count) {
        for (; count > 0; --count)
            if (!skip_string()) return false;
        return true;
    };
    const auto skip_record = [&] {
        if (!content.holds(at, 2) || content.u16be(at) == 0 || content.u16be(at) == 0xFFFF || !skip_strings(5) ||
            !content.holds(at, kNumbers + 2))
            return false;
        const unsigned properties = content.u8(at + kNumbers + 1);
        at += kNumbers + 2;
        return skip_strings(2 * properties);
    };
    std::uint64_t end = at;
    for (; skip_record(); end = at) ++records;
    return records == 0 ? nonsense() : whole(end, Proof::chain);
}

}  // namespace

const std::vector<Format>& system_files() {
    static const std::vector<Format> family = {
        {.name = "bplist",
         .kind = Kind::other,
         .extensions = {"bplist"},
         .signatures = {{{0, "bplist00"sv}}},
         .measure = measure_property_list,
         .ending = "its trailer",
         .checked = "the chain of objects, and the table of their places"},
        {.name = "appledouble",
         .kind = Kind::other,
         .extensions = {"appledouble"},
         .signatures = {{{0, "\0\x05\x16\x07\0\2\0\0"sv}}},
         .measure = measure_appledouble,
         .ending = "the furthest of its entries",
         .checked = "the list of entries"},
        {.name = "dsstore",
         .kind = Kind::other,
         .extensions = {"ds_store"},
         .signatures = {{{0, "\0\0\0\1Bud1"sv}}},
         .measure = measure_finder_store,
         .ending = "the furthest of its blocks",
         .checked = "the list of blocks"},
        {.name = "thumbcache",
         .kind = Kind::other,
         .extensions = {"thumbcache"},
         .signatures = {{{0, "CMMM"sv}}},
         .measure = measure_thumbcache,
         .ending = "its last entry",
         .checked = "the chain of entries"},
        {.name = "mbdb",
         .kind = Kind::other,
         .extensions = {"mbdb"},
         .signatures = {{{0, "mbdb\5\0"sv}}},
         .is_loose = true,
         .measure = measure_backup_list,
         .ending = "its last record",
         .checked = "the chain of records"},
    };
    return family;
}

}  // namespace dredger::formats

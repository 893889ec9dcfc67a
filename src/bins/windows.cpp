#include "bins/windows.h"

#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/text.h"

namespace dredger {
namespace {

using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

// The structures are not published; these are described alike in many forensic write-ups and stand in real bins.

struct IndexFile {
    little_uint64_t version;  // 1: a path of 260 UTF-16 units follows; 2: its length in units, then the path
    little_uint64_t size;     // bytes of what was thrown away
    little_uint64_t deleted;  // FILETIME
};
static_assert(sizeof(IndexFile) == 24);
constexpr std::uint64_t kShortestIndexFile = 28;
constexpr std::uint64_t kLongestIndexFile = 28 + 2 * 32'768;
constexpr std::size_t kOldPathBytes = 520;
constexpr std::size_t kItemNameLength = 8;  // $R and six letters and digits

struct Info2Header {
    little_uint32_t version;
    little_uint32_t unused1;
    little_uint32_t unused2;
    little_uint32_t entry_size;  // bytes: 280, or 800 with the path in Unicode
    little_uint32_t unused3;
};
static_assert(sizeof(Info2Header) == 20);

struct Info2Entry {
    char path[260];           // in the code page of the system; its first byte is cleared when the thing leaves the bin
    little_uint32_t number;   // the N of DcN.EXT
    little_uint32_t drive;    // 2 is C:
    little_uint64_t deleted;  // FILETIME
    little_uint32_t size;     // bytes on the drive, whole clusters
};
static_assert(sizeof(Info2Entry) == 280);
constexpr std::uint32_t kUnicodeEntrySize = 800;
constexpr std::uint64_t kLargestInfo2 = 16 << 20;  // bytes

bool is_upper_or_digit(char c) { return (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9'); }

// "$RA1B2C3.jpg" with 'R', "$IA1B2C3.jpg" with 'I'.
bool is_item_name(std::string_view name, char letter) {
    if (name.size() < kItemNameLength || name[0] != '$' || (name[1] & ~0x20) != letter) return false;
    for (std::size_t i = 2; i < kItemNameLength; ++i)
        if (!is_upper_or_digit(name[i])) return false;
    return name.size() == kItemNameLength || name[kItemNameLength] == '.' || name[kItemNameLength] == ';';
}

std::string_view part(std::string_view path, std::size_t number) {
    for (; number > 0; --number) {
        const std::size_t slash = path.find('/');
        if (slash == std::string_view::npos) return {};
        path.remove_prefix(slash + 1);
    }
    return path.substr(0, path.find('/'));
}

std::string_view name_in(std::string_view path) { return split_path(path).name; }
std::string_view folder_of(std::string_view path) { return split_path(path).folder; }

// The security identifier that a bin's folder is named after.
std::string account_in(std::string_view path) {
    const std::string_view folder = name_in(folder_of(path));
    return folder.starts_with("S-1-") ? std::string(folder) : std::string();
}

// "E:\Logs\terns.csv" to "Logs/terns.csv"; the drive, the share or the volume is left out.
std::string path_on_volume(std::string_view noted) {
    std::string path;
    for (std::size_t from = 0; from < noted.size();) {
        const std::size_t end = std::min(noted.find('\\', from), noted.size());
        const std::string_view one = noted.substr(from, end - from);
        from = end + 1;
        const bool names_volume =
            path.empty() && (one.ends_with(':') || one == "?" || one == "." || one.starts_with("Volume{"));
        if (one.empty() || names_volume) continue;
        if (!path.empty()) path += '/';
        for (const char c : one) path += c == '/' ? '_' : c;
    }
    return path;
}

// Up to the first NUL.
std::string text_of(std::span<const std::byte> utf16) {
    std::size_t length = 0;
    while (length + 1 < utf16.size() && (utf16[length] != std::byte{0} || utf16[length + 1] != std::byte{0}))
        length += 2;
    return utf16le_to_utf8(utf16.first(length));
}

bool lies_in_recycle_bin(std::string_view path) {
    return folded(part(path, 0)) == "$recycle.bin" && is_item_name(part(path, 2), 'R');
}

bool may_be_index_file(std::string_view name, std::uint64_t size) {
    return is_item_name(name, 'I') && size >= kShortestIndexFile && size <= kLongestIndexFile;
}

std::vector<BinEntry> read_index_file(std::string_view path, ByteView content) {
    const auto head = content.as<IndexFile>(0);
    if (!head || (head->version != 1 && head->version != 2)) return {};
    const std::size_t at = head->version == 1 ? sizeof(IndexFile) : sizeof(IndexFile) + 4;
    const std::uint64_t units = head->version == 1 ? kOldPathBytes / 2 : content.u32le(sizeof(IndexFile)).value_or(0);
    const std::size_t room = content.size() - std::min(at, content.size());
    const auto text =
        content.slice(at, std::min<std::size_t>(room, units <= room ? static_cast<std::size_t>(units * 2) : room));
    if (!text) return {};
    BinEntry entry;
    entry.noted_as = printable(text_of(text->bytes()));
    entry.original = path_on_volume(entry.noted_as);
    if (entry.original.empty()) return {};
    const std::string_view name = name_in(path);
    entry.item = fmt::format("{}/$R{}", folder_of(path), name.substr(2));
    entry.account = account_in(path);
    entry.size = head->size;
    entry.deleted = windows_time(head->deleted);
    return {entry};
}

// "Dc12.txt".
bool is_old_item_name(std::string_view name) {
    return name.size() >= 3 && (name[0] == 'D' || name[0] == 'd') &&
           ((name[1] | 0x20) >= 'a' && (name[1] | 0x20) <= 'z') && name[2] >= '0' && name[2] <= '9';
}

// RECYCLED/Dc1.txt, RECYCLER/SID/Dc1.txt
bool lies_in_recycler(std::string_view path) {
    const std::string top = folded(part(path, 0));
    return (top == "recycled" && is_old_item_name(part(path, 1))) ||
           (top == "recycler" && is_old_item_name(part(path, 2)));
}

// The first letter of a name that was deleted on FAT is lost.
bool may_be_info2(std::string_view name, std::uint64_t size) {
    return name.size() == 5 && folded(name.substr(1)) == "nfo2" && size > sizeof(Info2Header) && size <= kLargestInfo2;
}

std::vector<BinEntry> read_info2(std::string_view path, ByteView content) {
    std::vector<BinEntry> entries;
    const auto head = content.as<Info2Header>(0);
    const std::uint32_t size = head ? head->entry_size.value() : 0;
    if (size != sizeof(Info2Entry) && size != kUnicodeEntrySize) return {};
    for (std::size_t at = sizeof(Info2Header); content.slice(at, size); at += size) {
        const auto on_disk = content.as<Info2Entry>(at);
        const auto unicode = content.slice(at + sizeof(Info2Entry), size - sizeof(Info2Entry));
        if (!on_disk || !unicode || on_disk->drive > 25) continue;
        BinEntry entry;
        entry.live = on_disk->path[0] != '\0';
        if (!unicode->empty()) {
            entry.noted_as = printable(text_of(unicode->bytes()));
        } else if (entry.live) {
            const std::string_view whole(on_disk->path, sizeof on_disk->path);
            entry.noted_as = printable(
                code_page_to_utf8(std::as_bytes(std::span(whole.substr(0, whole.find('\0')))), CodePage::windows1252));
        }
        entry.original = path_on_volume(entry.noted_as);
        if (entry.original.empty()) continue;
        const std::string extension = extension_of(name_in(entry.original));
        entry.item =
            fmt::format("{}/D{}{}{}{}", folder_of(path), static_cast<char>('c' - 2 + static_cast<char>(on_disk->drive)),
                        on_disk->number.value(), extension.empty() ? "" : ".", extension);
        entry.account = account_in(path);
        entry.size = on_disk->size;
        entry.deleted = windows_time(on_disk->deleted);
        entries.push_back(std::move(entry));
    }
    return entries;
}

}  // namespace

constexpr BinKind kRecycleBin = {"recycle bin", lies_in_recycle_bin, may_be_index_file, read_index_file};
constexpr BinKind kRecycler = {"recycle bin", lies_in_recycler, may_be_info2, read_info2};

}  // namespace dredger

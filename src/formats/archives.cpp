// Archives that are not ZIP: RAR 4 and 5 (rarlab technote), 7z (7zFormat.txt), cabinets ([MS-CAB]), tar (POSIX
// 1003.1-2017 pax, ustar; GNU tar manual), ISO 9660 (ECMA-119).
#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/families.h"
#include "formats/rar_block.h"
#include "formats/tar_header.h"
#include "formats/unpacking.h"

namespace dredger::formats {
namespace {

Measured measure_rar5(Reader& content) {
    std::uint64_t at = 8;
    for (bool any = false;; any = true) {
        const auto block = rar_block_at(content, at);
        if (!block) return any ? broken(at, "the checksum of a header is off") : nonsense();
        if (!content.holds(block->data_at(), block->data))
            return any ? broken(content.size(), "its end is missing") : nonsense();
        at = block->data_at() + block->data;
        if (block->type == RarBlock::kEnd) return whole(at, Proof::chain);
        if (block->type == RarBlock::kEncryption) return open_ended(at, Proof::chain);  // what follows is encrypted
    }
}

Measured measure_rar4(Reader& content) {
    std::uint64_t at = 7;
    for (bool any = false;; any = true) {
        const unsigned type = content.u8(at + 2);
        const unsigned flags = content.u16le(at + 3);
        const std::uint64_t head = content.u16le(at + 5);
        const bool right = head >= 7 && type >= 0x73 && type <= 0x7B &&
                           (crc32_of(content, at + 2, head - 2) & 0xFFFF) == content.u16le(at);
        if (!right && type == 0x7B && head == 7 && content.holds(at, 7)) return whole(at + 7, Proof::chain);
        if (!right) return any ? broken(std::min(at, content.size()), "the checksum of a header is off") : nonsense();
        std::uint64_t data = (flags & 0x8000U) != 0 ? content.u32le(at + 7) : 0;
        if ((type == 0x74 || type == 0x7A) && (flags & 0x100U) != 0)
            data += std::uint64_t{content.u32le(at + 32)} << 32;
        if (type == 0x73 && (flags & 0x80U) != 0) return open_ended(at + head, Proof::chain);
        if (!content.holds(at, head + data)) return any ? broken(content.size(), "its end is missing") : nonsense();
        at += head + data;
        if (type == 0x7B) return whole(at, Proof::chain);
    }
}

Measured measure_rar(Reader& content) { return content.u8(6) == 1 ? measure_rar5(content) : measure_rar4(content); }

Measured measure_7z(Reader& content) {
    if (crc32_of(content, 12, 20) != content.u32le(8)) return nonsense();
    const std::uint64_t offset = content.u64le(12);
    const std::uint64_t size = content.u64le(20);
    if (offset > std::uint64_t{1} << 50 || size > std::uint64_t{1} << 40) return nonsense();
    const std::uint64_t end = 32 + offset + size;
    if (!content.holds(0, end)) return broken(content.size(), "its end is missing", end);
    if (crc32_of(content, 32 + offset, size) != content.u32le(28))
        return broken(32 + offset, "the checksum of its directory is off", end);
    return whole(end, Proof::chain);
}

Measured measure_cab(Reader& content) {
    const std::uint64_t size = content.u32le(8);
    const std::uint64_t files = content.u32le(16);
    const unsigned folders = content.u16le(26);
    if (content.u32le(4) != 0 || content.u32le(12) != 0 || size < 44 || files < 36 || files > size ||
        content.u8(25) != 1 || folders == 0)
        return nonsense();
    if (!content.holds(0, size)) return broken(content.size(), "its end is missing", size);
    // The blocks of data of each folder, one behind the other.
    const unsigned flags = content.u16le(30);
    std::uint64_t at = 36;
    unsigned folder_extra = 0, data_extra = 0;
    if ((flags & 4U) != 0) {
        folder_extra = content.u8(38);
        data_extra = content.u8(39);
        at = 40 + std::uint64_t{content.u16le(36)};
    }
    for (unsigned bit : {1U, 2U})
        for (unsigned n = 0; (flags & bit) != 0 && n < 2; ++n) {
            const auto end = content.find(std::string_view("\0", 1), at, at + 512);
            if (!end) return nonsense();
            at = *end + 1;
        }
    std::uint64_t filled = 0;  // by blocks; those of two folders never share their bytes
    for (unsigned f = 0; f < folders; ++f) {
        std::uint64_t block = content.u32le(at + (8 + std::uint64_t{folder_extra}) * f);
        for (unsigned n = content.u16le(at + (8 + std::uint64_t{folder_extra}) * f + 4); n > 0; --n) {
            const std::uint64_t packed = content.u16le(block + 4);
            filled += 8 + data_extra + packed;
            if (packed == 0 || packed > 32768 + 6144 || block + 8 + data_extra + packed > size || filled > size)
                return broken(std::min(block, size), "a block of data is damaged", size);
            block += 8 + data_extra + packed;
        }
    }
    return whole(size, Proof::chain);
}

Measured measure_tar(Reader& content) {
    constexpr std::uint64_t kRecord = 10240;
    std::uint64_t at = 0;
    for (unsigned members = 0;; ++members) {
        if (content.holds(at, 1024) && content.is_zeros(at, at + 1024)) {
            // Most writers fill up to a record of 20 blocks.
            const std::uint64_t filled = (at + 1024 + kRecord - 1) / kRecord * kRecord;
            const bool is_filled = content.holds(0, filled) && content.is_zeros(at, filled);
            return members == 0 ? nonsense() : whole(is_filled ? filled : at + 1024, Proof::chain);
        }
        const auto header = tar_header_at(content, at);
        if (!header)
            return members == 0 ? nonsense()
                                : broken(std::min(at, content.size()), "the header of a member is damaged");
        if (!content.holds(at + TarHeader::kBlock, header->room())) return broken(content.size(), "its end is missing");
        at += TarHeader::kBlock + header->room();
    }
}

// Whether every folder of a disc begins with a record of itself, and all that they list lies on it.
bool iso_folders_hold(Reader& content, std::uint64_t root, std::uint64_t root_size, std::uint64_t end) {
    constexpr std::uint64_t kBlock = 2048;
    constexpr std::size_t kMaxFolders = 200'000;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> folders = {{root, root_size}};  // places and bytes
    std::set<std::uint64_t> seen = {root};
    for (std::size_t n = 0; n < folders.size() && content.ok(); ++n) {
        const auto [at, size] = folders[n];
        if (size == 0 || size > 64 << 20 || at + size > end || content.u32le(at + 2) * kBlock != at) return false;
        for (std::uint64_t p = at; p < at + size;) {
            const std::uint64_t length = content.u8(p);
            if (length == 0) {
                p = (p / kBlock + 1) * kBlock;
                continue;
            }
            const std::uint64_t place = content.u32le(p + 2) * kBlock, bytes = content.u32le(p + 10);
            if (length < 34 || place + bytes > end) return false;
            const bool is_named = content.u8(p + 32) != 1 || content.u8(p + 33) > 1;  // not itself, nor the one above
            const bool is_folder = (content.u8(p + 25) & 2U) != 0;
            if (is_folder && is_named && folders.size() < kMaxFolders && seen.insert(place).second)
                folders.emplace_back(place, bytes);
            p += length;
        }
    }
    return content.ok();
}

Measured measure_iso(Reader& content) {
    constexpr std::uint64_t kDescriptors = 32768;
    const std::uint64_t block = content.u16le(kDescriptors + 128);
    const std::uint64_t blocks = content.u32le(kDescriptors + 80);
    if (content.u8(kDescriptors) != 1 || block != 2048 || blocks < 18 || content.u32be(kDescriptors + 84) != blocks)
        return nonsense();
    for (std::uint64_t at = kDescriptors; content.u8(at) != 255; at += 2048)
        if (!content.has(at + 1, "CD001") || at > kDescriptors + 65536) return nonsense();
    const std::uint64_t end = block * blocks;
    const std::uint64_t root = content.u32le(kDescriptors + 158) * block;
    if (root < kDescriptors || content.u8(root) < 34 || content.u32le(root + 2) * block != root) return nonsense();
    const std::uint64_t root_size = content.u32le(kDescriptors + 166);
    const bool holds = content.holds(0, end) && iso_folders_hold(content, root, root_size, end);
    return sized(content, end, holds ? Proof::chain : Proof::length);
}

Description describe_iso(Reader& content, std::uint64_t) {
    Description said;
    said.title = printable(content.text(32768 + 40, 32));
    while (said.title.ends_with(' ')) said.title.pop_back();
    return said;
}

}  // namespace

const std::vector<Format>& archives() {
    static const std::vector<Format> family = {
        {.name = "rar",
         .kind = Kind::archive,
         .extensions = {"rar"},
         .signatures = {{{0, "Rar!\x1A\7\0"sv}}, {{0, "Rar!\x1A\7\1\0"sv}}},
         .measure = measure_rar,
         .ending = "its end header",
         .checked = "the checksum of every header"},
        {.name = "7z",
         .kind = Kind::archive,
         .extensions = {"7z"},
         .signatures = {{{0, "7z\xBC\xAF\x27\x1C"sv}}},
         .measure = measure_7z,
         .ending = "its directory",
         .checked = "the checksums of its headers"},
        {.name = "tar",
         .kind = Kind::archive,
         .extensions = {"tar"},
         .signatures = {{{257, "ustar"sv}}},
         .measure = measure_tar,
         .ending = "two blocks of zeros, and their record",
         .checked = "the checksum of every header"},
        {.name = "cab",
         .kind = Kind::archive,
         .extensions = {"cab"},
         .signatures = {{{0, "MSCF\0\0\0\0"sv}}},
         .measure = measure_cab,
         .ending = "the size in its header",
         .checked = "the chain of data blocks"},
        {.name = "iso9660",
         .kind = Kind::archive,
         .extensions = {"iso"},
         .signatures = {{{32769, "CD001"sv}}},
         .measure = measure_iso,
         .describe = describe_iso,
         .ending = "the size in its descriptor",
         .checked = "the descriptors and the root folder"},
    };
    return family;
}

}  // namespace dredger::formats

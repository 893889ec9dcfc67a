#include "filesystems/ext/inode.h"

#include <algorithm>
#include <cstddef>

namespace dredger::ext {
namespace {

struct DiskInode {
    little_uint16_t i_mode;
    little_uint16_t i_uid;
    little_uint32_t i_size_lo;
    little_uint32_t i_atime;
    little_uint32_t i_ctime;
    little_uint32_t i_mtime;
    little_uint32_t i_dtime;
    little_uint16_t i_gid;
    little_uint16_t i_links_count;
    little_uint32_t i_blocks_lo;
    little_uint32_t i_flags;
    little_uint32_t i_version;
    std::byte i_block[60];
    little_uint32_t i_generation;
    little_uint32_t i_file_acl_lo;
    little_uint32_t i_size_high;
    little_uint32_t i_obso_faddr;
    little_uint16_t i_blocks_high;
    little_uint16_t i_file_acl_high;
    little_uint16_t i_uid_high;
    little_uint16_t i_gid_high;
    little_uint16_t i_checksum_lo;
    little_uint16_t i_reserved;
};
static_assert(sizeof(DiskInode) == 128);

struct ExtraInode {
    little_uint16_t i_extra_isize;
    little_uint16_t i_checksum_hi;
    little_uint32_t i_ctime_extra;
    little_uint32_t i_mtime_extra;
    little_uint32_t i_atime_extra;
    little_uint32_t i_crtime;
    little_uint32_t i_crtime_extra;
};

struct AttributeEntry {
    std::uint8_t e_name_len;
    std::uint8_t e_name_index;
    little_uint16_t e_value_offs;
    little_uint32_t e_value_inum;
    little_uint32_t e_value_size;
    little_uint32_t e_hash;
};

constexpr std::uint64_t kLargestFile = std::uint64_t{1} << 48;  // bytes: 2^32 blocks of 64 KiB
constexpr std::uint32_t HUGE_FILE_FL = 0x40000;

// The low two bits of `extra` carry on the seconds beyond 2038, the others are nanoseconds.
FileTime time_of(std::uint32_t seconds, std::uint32_t extra) {
    const auto base = static_cast<std::int64_t>(static_cast<std::int32_t>(seconds));
    return {base + (static_cast<std::int64_t>(extra & 3U) << 32U), std::min(extra >> 2U, 999'999'999U)};
}

// Where the attribute system.data, which carries on inline data, has its value.
Extent inline_rest_of(ByteView bytes, std::size_t extra_size) {
    constexpr std::uint32_t kAttributeMagic = 0xEA020000;
    constexpr std::uint8_t kSystemIndex = 7;
    const std::size_t header = sizeof(DiskInode) + extra_size;
    const auto magic = bytes.u32le(header);
    if (!magic || *magic != kAttributeMagic) return {};
    const std::size_t first = header + 4;
    for (std::size_t at = first; at + sizeof(AttributeEntry) <= bytes.size();) {
        const auto entry = *bytes.as<AttributeEntry>(at);
        if (entry.e_name_len == 0) break;
        if (entry.e_name_index == kSystemIndex && entry.e_name_len == 4 &&
            bytes.has(at + sizeof(AttributeEntry), "data")) {
            const std::uint64_t from = first + entry.e_value_offs;
            if (entry.e_value_inum != 0 || !lies_within(from, entry.e_value_size, bytes.size())) return {};
            return {bytes.origin() + from, entry.e_value_size};
        }
        at += (sizeof(AttributeEntry) + entry.e_name_len + 3U) / 4 * 4;
    }
    return {};
}

}  // namespace

bool Inode::has_layout() const {
    if (has_inline_data() || is_fast_symlink()) return size > 0;
    const ByteView view(block);
    constexpr std::size_t kEntryCount = 2;  // of an extent header
    if ((flags & EXTENTS_FL) != 0) return view.has(0, "\x0A\xF3") && *view.u16le(kEntryCount) > 0;
    return !view.is_uniform() || block.front() != std::byte{0};
}

std::optional<Inode> parse_inode(ByteView bytes, std::uint32_t number, const Geometry& geometry) {
    const auto read = bytes.as<DiskInode>(0);
    if (!read) return std::nullopt;
    const DiskInode& disk = *read;
    constexpr std::uint32_t kTypes = 0b1'0101'0101'0110;  // pipe, character, folder, block, file, symlink, socket
    const bool is_type = (kTypes >> (disk.i_mode >> 12U) & 1U) != 0;
    if (disk.i_mode != 0 && !is_type) return std::nullopt;

    Inode inode;
    inode.number = number;
    inode.generation = disk.i_generation;
    inode.mode = disk.i_mode;
    inode.uid = disk.i_uid | std::uint32_t{disk.i_uid_high} << 16U;
    inode.gid = disk.i_gid | std::uint32_t{disk.i_gid_high} << 16U;
    inode.links = disk.i_links_count;
    inode.flags = disk.i_flags;
    inode.size = disk.i_size_lo | std::uint64_t{disk.i_size_high} << 32U;
    if (inode.size > kLargestFile) return std::nullopt;
    const bool is_huge = (geometry.ro_compat & RO_COMPAT_HUGE_FILE) != 0;
    const std::uint64_t units = disk.i_blocks_lo | (is_huge ? std::uint64_t{disk.i_blocks_high} << 32U : 0);
    inode.allocated = units * (is_huge && (disk.i_flags & HUGE_FILE_FL) != 0 ? geometry.block_size : 512);
    inode.deleted = disk.i_dtime;
    std::copy(std::begin(disk.i_block), std::end(disk.i_block), inode.block.begin());
    inode.block_at = bytes.origin() + offsetof(DiskInode, i_block);

    ExtraInode extra{};
    std::size_t extra_size = 0;
    if (const auto size = bytes.u16le(sizeof(DiskInode)); size && bytes.size() > sizeof(DiskInode)) {
        extra_size = std::min<std::size_t>(*size, bytes.size() - sizeof(DiskInode));
        std::memcpy(static_cast<void*>(&extra), bytes.bytes().data() + sizeof(DiskInode),
                    std::min(extra_size, std::min(sizeof extra, bytes.size() - sizeof(DiskInode))));
    }
    inode.accessed = time_of(disk.i_atime, extra.i_atime_extra);
    inode.changed = time_of(disk.i_ctime, extra.i_ctime_extra);
    inode.modified = time_of(disk.i_mtime, extra.i_mtime_extra);
    if (extra_size >= sizeof extra && extra.i_crtime != 0)
        inode.created = time_of(extra.i_crtime, extra.i_crtime_extra);
    if (inode.has_inline_data()) inode.inline_rest = inline_rest_of(bytes, extra_size);
    return inode;
}

Crc32c inode_seed(const Geometry& geometry, std::uint32_t number, std::uint32_t generation) {
    Crc32c crc = geometry.seed;
    return crc.add_value(little_uint32_t(number)).add_value(little_uint32_t(generation));
}

bool checksum_agrees(ByteView bytes, std::uint32_t number, const Geometry& geometry) {
    constexpr std::size_t kLow = offsetof(DiskInode, i_checksum_lo);
    constexpr std::size_t kHigh = sizeof(DiskInode) + offsetof(ExtraInode, i_checksum_hi);
    if (!geometry.has_checksums()) return true;
    const auto generation = bytes.u32le(offsetof(DiskInode, i_generation));
    const auto low = bytes.u16le(kLow);
    if (!generation || !low) return false;
    std::vector<std::byte> blank(bytes.bytes().begin(), bytes.bytes().end());
    std::fill_n(blank.begin() + kLow, 2, std::byte{0});
    std::uint32_t expected = *low;
    const auto extra_size = bytes.u16le(sizeof(DiskInode));
    const bool is_wide = bytes.size() > kHigh + 2 && extra_size && *extra_size >= 4;
    if (is_wide) {
        expected |= std::uint32_t{*bytes.u16le(kHigh)} << 16U;
        std::fill_n(blank.begin() + kHigh, 2, std::byte{0});
    }
    const std::uint32_t actual = inode_seed(geometry, number, *generation).add(blank).value();
    return is_wide ? actual == expected : (actual & 0xFFFFU) == expected;
}

}  // namespace dredger::ext

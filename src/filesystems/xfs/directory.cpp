#include "filesystems/xfs/directory.h"

namespace dredger::xfs {
namespace {

constexpr std::uint16_t kFreeTag = 0xFFFF;  // XFS_DIR2_DATA_FREE_TAG
constexpr std::size_t kEntryHeader = 9;     // inumber, namelen
constexpr std::size_t kTag = 2;
constexpr unsigned kMaxTypes = 9;  // XFS_DIR3_FT_MAX

std::size_t header_size(const Geometry& geometry) { return geometry.has_checksums ? 64 : 16; }

std::string text_of(std::span<const std::byte> bytes) {
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

bool is_name(std::string_view name) {
    return !name.empty() && name.find('/') == std::string_view::npos && name.find('\0') == std::string_view::npos;
}

FileType type_from(std::uint8_t value) {
    return value > static_cast<std::uint8_t>(FileType::symlink) ? FileType::unknown : static_cast<FileType>(value);
}

struct Parsed {
    DirectoryEntry entry;
    std::size_t length;  // bytes it takes
};

// xfs_dir2_data_entry: the tag at its end tells where in the block it stands. Of one that was removed the first four
// bytes are overwritten.
std::optional<Parsed> entry_at(ByteView part, std::size_t offset, std::size_t at, const Geometry& geometry) {
    const auto inumber = part.as<big_uint64_t>(offset);
    const auto length = part.u8(offset + 8);
    if (!inumber || !length || *length == 0) return std::nullopt;
    const std::size_t used = kEntryHeader + *length + (geometry.has_types ? 1 : 0) + kTag;
    const std::size_t size = (used + 7) / 8 * 8;
    const auto tag = part.as<big_uint16_t>(offset + size - kTag);
    if (!tag || *tag != at + offset) return std::nullopt;
    Parsed parsed{{}, size};
    parsed.entry.name = text_of(part.bytes().subspan(offset + kEntryHeader, *length));
    if (!is_name(parsed.entry.name)) return std::nullopt;
    if (geometry.has_types) {
        const std::uint8_t type = *part.u8(offset + kEntryHeader + *length);
        if (type > kMaxTypes) return std::nullopt;
        parsed.entry.type = type_from(type);
    }
    parsed.entry.inode = *inumber;
    if (*inumber >> 48 == kFreeTag) {
        parsed.entry.live = false;
        parsed.entry.inode_is_whole = false;
        parsed.entry.inode = *inumber & 0xFFFFFFFF;
    }
    return parsed;
}

// Within room that entries have given up.
void find_removed(ByteView block, std::size_t from, std::size_t to, const Geometry& geometry, Directory& directory) {
    const auto room = block.slice(from, to - from);
    if (!room) return;
    for (DirectoryEntry& entry : entries_within(*room, from, geometry)) {
        entry.live = false;
        if (entry.name != "." && entry.name != "..") directory.entries.push_back(std::move(entry));
    }
}

}  // namespace

std::vector<DirectoryEntry> entries_within(ByteView part, std::size_t at, const Geometry& geometry) {
    std::vector<DirectoryEntry> entries;
    for (std::size_t offset = 0; offset + 16 <= part.size();) {
        auto parsed = entry_at(part, offset, at, geometry);
        if (parsed) entries.push_back(std::move(parsed->entry));
        offset += parsed ? parsed->length : 8;
    }
    return entries;
}

bool is_directory_block(ByteView block, const Geometry& geometry) {
    return block.size() >= geometry.directory_block_size &&
           (geometry.has_checksums ? block.has(0, "XDB3") || block.has(0, "XDD3")
                                   : block.has(0, "XD2B") || block.has(0, "XD2D"));
}

Directory read_directory_block(ByteView whole, const Geometry& geometry) {
    Directory directory;
    if (!is_directory_block(whole, geometry)) return {{}, 0, 0, false};
    const ByteView block = *whole.slice(0, static_cast<std::size_t>(geometry.directory_block_size));
    constexpr std::size_t kOwner = 40;
    if (geometry.has_checksums) directory.owner = *block.as<big_uint64_t>(kOwner);
    std::size_t end = block.size();
    if (block.has(0, geometry.has_checksums ? "XDB3" : "XD2B")) {
        // A single block ends with the index of its entries.
        const std::size_t index = std::size_t{*block.as<big_uint32_t>(end - 8)} * 8 + 8;
        directory.whole = index <= end - header_size(geometry);
        if (directory.whole) end -= index;
    }
    for (std::size_t at = header_size(geometry); at + 16 <= end;) {
        if (*block.as<big_uint16_t>(at) == kFreeTag) {
            const std::size_t length = *block.as<big_uint16_t>(at + 2);
            if (length < 8 || length % 8 != 0 || length > end - at) {
                find_removed(block, at, end, geometry, directory);
                directory.whole = false;
                return directory;
            }
            find_removed(block, at, at + length, geometry, directory);
            at += length;
            continue;
        }
        auto parsed = entry_at(block, at, 0, geometry);
        if (!parsed) {
            directory.whole = false;
            at += 8;
            continue;
        }
        if (parsed->entry.name == "..")
            directory.parent = parsed->entry.inode;
        else if (parsed->entry.name == ".")
            directory.owner = directory.owner != 0 ? directory.owner : parsed->entry.inode;
        else
            directory.entries.push_back(std::move(parsed->entry));
        at += parsed->length;
    }
    return directory;
}

Directory read_short_directory(ByteView fork, std::uint64_t length, const Geometry& geometry) {
    Directory directory;
    const auto count = fork.u8(0), wide = fork.u8(1);
    if (!count || !wide) return {{}, 0, 0, false};
    const std::size_t number = *wide > 0 ? 8 : 4;
    const auto number_at = [&](std::size_t at) -> std::uint64_t {
        if (number == 8) return fork.as<big_uint64_t>(at).map([](auto n) { return n.value(); }).value_or(0);
        return fork.as<big_uint32_t>(at).map([](auto n) { return std::uint64_t{n.value()}; }).value_or(0);
    };
    directory.parent = number_at(2);
    std::size_t at = 2 + number;
    const auto take = [&](bool live) {
        const auto size = fork.u8(at);
        if (!size || *size == 0) return false;
        const std::size_t name_at = at + 3, type_at = name_at + *size;
        const std::size_t inode_at = type_at + (geometry.has_types ? 1 : 0);
        if (inode_at + number > fork.size()) return false;
        DirectoryEntry entry;
        entry.name = text_of(fork.bytes().subspan(name_at, *size));
        if (geometry.has_types) {
            const std::uint8_t type = *fork.u8(type_at);
            if (type > kMaxTypes) return false;
            entry.type = type_from(type);
        }
        entry.inode = number_at(inode_at);
        entry.live = live;
        if (!is_name(entry.name) || !geometry.offset_of_inode(entry.inode)) return false;
        directory.entries.push_back(std::move(entry));
        at = inode_at + number;
        return true;
    };
    for (unsigned i = 0; i < *count && directory.whole; ++i) directory.whole = at < length && take(true);
    // Former entries end where the present ones do, or anywhere behind.
    for (at = std::max(at, std::size_t{6}); at + 8 < fork.size();)
        if (!take(false)) ++at;
    return directory;
}

}  // namespace dredger::xfs

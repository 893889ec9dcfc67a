#include "filesystems/ext/directory.h"

namespace dredger::ext {
namespace {

struct EntryHeader {
    little_uint32_t inode;
    little_uint16_t rec_len;
    std::uint8_t name_len;
    std::uint8_t file_type;
};
static_assert(sizeof(EntryHeader) == 8);

constexpr std::size_t kLeastEntry = 12;  // a name of one byte, padded to 4
constexpr std::uint8_t kMaxTypes = 8;
constexpr std::uint8_t kChecksumType = 0xDE;  // of the entry that stands for the checksum at a block's end

std::size_t padded(std::size_t name_length) { return (sizeof(EntryHeader) + name_length + 3) / 4 * 4; }

// Blocks of 64 KiB don't fit into the field.
std::size_t record_length(const EntryHeader& header, std::size_t block_size) {
    const std::size_t length = header.rec_len;
    if (block_size < 0x10000) return length;
    return length == 0xFFFF || length == 0 ? block_size : (length & 0xFFFCU) | (length & 3U) << 16U;
}

std::string name_at(ByteView bytes, std::size_t at, std::size_t length) {
    const auto name = bytes.slice(at + sizeof(EntryHeader), length);
    return name ? std::string(reinterpret_cast<const char*>(name->bytes().data()), length) : std::string();
}

bool is_name(const std::string& name) {
    return !name.empty() && name.find('/') == std::string::npos && name.find('\0') == std::string::npos;
}

bool is_dots(const std::string& name) { return name == "." || name == ".."; }

// An entry whose bytes stand at `at`, all of them before `end`, though no chain leads to it.
std::optional<DirectoryEntry> given_up_entry(ByteView bytes, std::size_t at, std::size_t end, const Geometry& g) {
    const auto header = bytes.as<EntryHeader>(at);
    if (!header || header->name_len == 0 || header->file_type == 0 || header->file_type >= kMaxTypes ||
        header->inode == 0 || header->inode > g.inodes || header->rec_len % 4 != 0 ||
        header->rec_len < padded(header->name_len) || at + padded(header->name_len) > end)
        return std::nullopt;
    DirectoryEntry entry{header->inode, name_at(bytes, at, header->name_len), FileType(header->file_type), false};
    return is_name(entry.name) ? std::optional(entry) : std::nullopt;
}

class BlockReader {
  public:
    BlockReader(ByteView bytes, const Geometry& geometry) : bytes_(bytes), geometry_(geometry) {}

    DirectoryBlock read(std::size_t begin) {
        for (std::size_t at = begin; at < bytes_.size();) {
            const auto header = bytes_.as<EntryHeader>(at);
            const std::size_t length = header ? record_length(*header, geometry_.block_size) : 0;
            const bool is_checksum = header && header->inode == 0 && header->name_len == 0 &&
                                     header->file_type == kChecksumType && length == kLeastEntry;
            if (is_checksum) break;
            if (length < kLeastEntry || length % 4 != 0 || length > bytes_.size() - at ||
                padded(header->name_len) > length || header->inode > geometry_.inodes) {
                block_.whole = false;
                look_for_given_up(at, bytes_.size());
                break;
            }
            std::size_t used = sizeof(EntryHeader);
            if (header->inode != 0) used = take(*header, at);
            look_for_given_up(at + used, at + length);
            at += length;
        }
        return std::move(block_);
    }

  private:
    std::size_t take(const EntryHeader& header, std::size_t at) {
        const std::string name = name_at(bytes_, at, header.name_len);
        if (at == 0 && name == ".") {
            block_.self = header.inode;
        } else if (name == "..") {
            block_.parent = header.inode;
        } else if (is_name(name)) {
            const bool has_type = header.file_type < kMaxTypes;
            block_.entries.push_back({header.inode, name, has_type ? FileType(header.file_type) : FileType::unknown});
        } else {
            block_.whole = false;
        }
        return padded(header.name_len);
    }

    void look_for_given_up(std::size_t from, std::size_t end) {
        for (std::size_t at = from; at + kLeastEntry <= end;) {
            const auto entry = given_up_entry(bytes_, at, end, geometry_);
            if (entry && !is_dots(entry->name)) block_.entries.push_back(*entry);
            at += entry ? padded(entry->name.size()) : 4;
        }
    }

    ByteView bytes_;
    const Geometry& geometry_;
    DirectoryBlock block_;
};

}  // namespace

DirectoryBlock read_directory_block(ByteView block, const Geometry& geometry) {
    return BlockReader(block, geometry).read(0);
}

DirectoryBlock read_inline_directory(ByteView content, const Geometry& geometry) {
    constexpr std::size_t kParent = 4, kInInode = 60;
    const auto parent = content.u32le(0);
    if (!parent) return {};
    // The part in the inode and the part in its attribute are two chains.
    const std::size_t first = std::min(content.size(), kInInode);
    DirectoryBlock block = BlockReader(*content.slice(0, first), geometry).read(kParent);
    DirectoryBlock rest = BlockReader(*content.slice(first, content.size() - first), geometry).read(0);
    block.entries.insert(block.entries.end(), rest.entries.begin(), rest.entries.end());
    block.parent = *parent;
    return block;
}

bool is_directory_block(ByteView block, const Geometry& geometry) {
    if (block.size() != geometry.block_size) return false;
    const DirectoryBlock read = read_directory_block(block, geometry);
    return read.whole && (read.self != 0 || !read.entries.empty());
}

std::uint32_t directory_begun_by(ByteView block, const Geometry& geometry) {
    const auto self = block.as<EntryHeader>(0);
    const auto parent = block.as<EntryHeader>(kLeastEntry);
    const auto is_type = [](const EntryHeader& e) { return e.file_type == 0 || e.file_type == 2; };
    const bool begins = self && parent && self->inode != 0 && self->inode <= geometry.inodes &&
                        self->rec_len == kLeastEntry && self->name_len == 1 && is_type(*self) &&
                        block.has(sizeof(EntryHeader), std::string_view(".\0\0\0", 4)) && parent->inode != 0 &&
                        parent->inode <= geometry.inodes && parent->name_len == 2 && is_type(*parent) &&
                        block.has(kLeastEntry + sizeof(EntryHeader), std::string_view("..\0\0", 4));
    return begins ? self->inode.value() : 0;
}

}  // namespace dredger::ext

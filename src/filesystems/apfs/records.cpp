#include "filesystems/apfs/records.h"

#include "base/text.h"

namespace dredger::apfs {
namespace {

constexpr std::uint64_t kLargestFile = std::uint64_t{1} << 62;  // bytes
constexpr std::size_t kHeader = sizeof(std::uint64_t);          // of a key

FileTime time_of(std::uint64_t nanoseconds) {
    constexpr std::int64_t kSecond = 1'000'000'000;
    const auto all = static_cast<std::int64_t>(nanoseconds);
    const std::int64_t seconds = all / kSecond - (all % kSecond < 0 ? 1 : 0);
    return {seconds, static_cast<std::uint32_t>(all - seconds * kSecond)};
}

// Names end with a zero, which their length counts. A colon stands for a slash.
std::string name_in(ByteView view, std::size_t at, std::size_t length) {
    const auto bytes = view.slice(at, length);
    if (!bytes || length == 0) return {};
    std::string name(reinterpret_cast<const char*>(bytes->bytes().data()), length);
    name.resize(std::min(name.find('\0'), name.size()));
    for (char& c : name)
        if (c == '/') c = ':';
    return composed(name);
}

}  // namespace

std::optional<FsKey> parse_fs_key(ByteView key) {
    const auto head = key.u64le(0);
    if (!head) return std::nullopt;
    FsKey parsed{*head & OBJ_ID_MASK, static_cast<unsigned>(*head >> OBJ_TYPE_SHIFT), 0};
    if (parsed.type == APFS_TYPE_FILE_EXTENT) {
        const auto start = key.u64le(kHeader);
        if (!start) return std::nullopt;
        parsed.number = *start;
    }
    return parsed;
}

std::optional<Inode> parse_inode(ByteView view) {
    const auto value = view.as<JInodeVal>(0);
    if (!value) return std::nullopt;
    Inode inode;
    inode.parent = value->parent_id;
    inode.private_id = value->private_id;
    inode.created = time_of(value->create_time);
    inode.modified = time_of(value->mod_time);
    inode.changed = time_of(value->change_time);
    inode.accessed = time_of(value->access_time);
    inode.links = value->nchildren_or_nlink;
    inode.is_clone = (value->internal_flags & (INODE_WAS_CLONED | INODE_WAS_EVER_CLONED)) != 0;
    inode.bsd_flags = value->bsd_flags;
    inode.owner = value->owner;
    inode.group = value->group;
    inode.mode = value->mode;
    // What follows stands in fields, each padded to eight bytes.
    const auto blob = view.as<XfBlob>(sizeof(JInodeVal));
    if (!blob) return inode;
    const std::size_t fields = sizeof(JInodeVal) + sizeof(XfBlob);
    std::size_t at = fields + blob->xf_num_exts * sizeof(XField);
    for (std::size_t i = 0; i < blob->xf_num_exts; ++i) {
        const auto field = view.as<XField>(fields + i * sizeof(XField));
        if (!field || !lies_within(at, field->x_size, view.size())) break;
        if (field->x_type == INO_EXT_TYPE_NAME) inode.name = name_in(view, at, field->x_size);
        if (field->x_type == INO_EXT_TYPE_SPARSE_BYTES) inode.sparse = view.u64le(at).value_or(0);
        if (field->x_type == INO_EXT_TYPE_FINDER_INFO) inode.finder_place = {view.origin() + at, field->x_size};
        if (field->x_type == INO_EXT_TYPE_DSTREAM)
            if (const auto stream = view.as<JDstream>(at); stream && stream->size < kLargestFile) {
                inode.size = stream->size;
                inode.allocated = stream->alloced_size;
                inode.has_content = true;
            }
        at += divide_up(field->x_size, 8) * 8;
    }
    return inode;
}

// With a hash of the name or without, as the volume compares names: the length tells which.
std::optional<DirectoryRecord> parse_directory_record(ByteView key, ByteView value) {
    constexpr std::uint32_t kLengthMask = 0x3FF;
    const auto drec = value.as<JDrecVal>(0);
    const auto hashed = key.u32le(kHeader);
    const auto plain = key.u16le(kHeader);
    if (!drec || !plain) return std::nullopt;
    constexpr unsigned kTypeBits = 0xF, kFolder = 4;  // DT_DIR
    DirectoryRecord record{drec->file_id, {}, (drec->flags & kTypeBits) == kFolder};
    constexpr std::size_t kHashedAt = kHeader + 4, kPlainAt = kHeader + 2;
    if (hashed && key.size() == kHashedAt + (*hashed & kLengthMask))
        record.name = name_in(key, kHashedAt, *hashed & kLengthMask);
    else if (key.size() == kPlainAt + *plain)
        record.name = name_in(key, kPlainAt, *plain);
    if (record.name.empty()) return std::nullopt;
    return record;
}

std::optional<FileExtent> parse_file_extent(const FsKey& key, ByteView value) {
    const auto extent = value.as<JFileExtentVal>(0);
    if (!extent) return std::nullopt;
    const std::uint64_t length = extent->len_and_flags & J_FILE_EXTENT_LEN_MASK;
    if (length == 0 || length > kLargestFile || key.number > kLargestFile) return std::nullopt;
    return FileExtent{key.number, length, extent->phys_block_num};
}

std::vector<Extent> places_of(const Blocks& blocks, const std::vector<FileExtent>& extents, std::uint64_t size,
                              bool all_are_told) {
    std::vector<Extent> places;
    std::uint64_t reached = 0;
    const auto fill = [&](std::uint64_t until) {
        if (until <= reached) return;
        append(places, all_are_told ? Extent::zeros(until - reached) : Extent::unknown(until - reached));
        reached = until;
    };
    for (const FileExtent& extent : extents) {
        if (extent.start < reached || extent.start >= size) continue;
        fill(extent.start);
        const std::uint64_t length = std::min(extent.length, size - extent.start);
        const std::uint64_t place = blocks.place_of(extent.paddr);
        const bool is_there = extent.paddr != 0 && checked_add(place, length).has_value();
        append(places, is_there            ? Extent{place, length}
                       : extent.paddr == 0 ? Extent::zeros(length)
                                           : Extent::unknown(length));
        reached += length;
    }
    fill(size);
    return places;
}

std::optional<Attribute> parse_attribute(ByteView key, ByteView value) {
    const auto length = key.u16le(kHeader);
    const auto head = value.as<JXattrVal>(0);
    if (!length || !head) return std::nullopt;
    Attribute attribute;
    attribute.name = name_in(key, kHeader + 2, *length);
    if (attribute.name.empty()) return std::nullopt;
    if ((head->flags & XATTR_DATA_STREAM) != 0) {
        const auto stream = value.as<JXattrDstream>(sizeof(JXattrVal));
        if (!stream || stream->dstream.size > kLargestFile || stream->xattr_obj_id == 0) return std::nullopt;
        attribute.stream = stream->xattr_obj_id;
        attribute.size = stream->dstream.size;
    } else {
        if (!lies_within(sizeof(JXattrVal), head->xdata_len, value.size())) return std::nullopt;
        attribute.place = {value.origin() + sizeof(JXattrVal), head->xdata_len};
        attribute.size = head->xdata_len;
    }
    return attribute;
}

std::optional<Sibling> parse_sibling(ByteView value) {
    const auto head = value.as<JSiblingVal>(0);
    if (!head) return std::nullopt;
    Sibling sibling{head->parent_id, name_in(value, sizeof(JSiblingVal), head->name_len)};
    return sibling.name.empty() ? std::nullopt : std::optional(std::move(sibling));
}

}  // namespace dredger::apfs

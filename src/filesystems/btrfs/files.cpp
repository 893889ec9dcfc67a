#include "filesystems/btrfs/files.h"

#include "filesystems/posix.h"

namespace dredger::btrfs {
namespace {

constexpr std::uint64_t kLargestFile = std::uint64_t{1} << 62;

std::string text_of(ByteView bytes) { return {reinterpret_cast<const char*>(bytes.bytes().data()), bytes.size()}; }

}  // namespace

FileTime time_of(const Timespec& time) {
    return {static_cast<std::int64_t>(time.sec.value()), std::min<std::uint32_t>(time.nsec, 999'999'999)};
}

std::optional<Inode> parse_inode(ByteView data) {
    const auto item = data.as<InodeItem>(0);
    if (!item || item->size > kLargestFile) return std::nullopt;
    Inode inode;
    inode.generation = item->generation;
    inode.sequence = item->sequence;
    inode.size = item->size;
    inode.stored = item->nbytes;
    inode.links = item->nlink;
    inode.uid = item->uid;
    inode.gid = item->gid;
    inode.mode = static_cast<std::uint16_t>(item->mode);
    inode.accessed = time_of(item->atime);
    inode.changed = time_of(item->ctime);
    inode.modified = time_of(item->mtime);
    inode.created = time_of(item->otime);
    return inode;
}

std::vector<Name> names_in(const Key& key, ByteView data) {
    std::vector<Name> names;
    const bool is_extended = key.type == INODE_EXTREF;
    for (std::size_t at = 0; at < data.size();) {
        const std::size_t head = is_extended ? 18 : 10;  // parent, index, length; or index, length
        const auto length = data.u16le(at + head - 2);
        const auto name = length ? data.slice(at + head, *length) : tl::unexpected<Error>(Error{});
        if (!length || !name || *length == 0) break;
        names.push_back({is_extended ? *data.u64le(at) : key.offset, text_of(*name)});
        at += head + *length;
    }
    return names;
}

std::optional<FileExtent> parse_file_extent(const Key& key, ByteView data) {
    constexpr std::uint8_t kInline = 0, kPreallocated = 2;
    const auto item = data.as<FileExtentItem>(0);
    if (!item || item->type > kPreallocated) return std::nullopt;
    FileExtent extent;
    extent.start = key.offset;
    extent.generation = item->generation;
    extent.unpacked = item->ram_bytes;
    extent.is_known = item->compression <= 3 && item->encryption == 0 && item->other_encoding == 0;
    extent.codec = static_cast<Pack::Method>(extent.is_known ? item->compression : 0);
    if (item->type == kInline) {
        const std::uint64_t stored = data.size() - sizeof(FileExtentItem);
        extent.inline_place = Extent{data.origin() + sizeof(FileExtentItem), stored};
        extent.stored = stored;
        extent.length = extent.codec == Pack::Method::none ? stored : extent.unpacked;
    } else {
        const auto place = data.as<FileExtentPlace>(sizeof(FileExtentItem));
        if (!place) return std::nullopt;
        extent.length = place->num_bytes;
        extent.logical = place->disk_bytenr;
        extent.stored = place->disk_num_bytes;
        extent.skip = place->offset;
        extent.is_hole = place->disk_bytenr == 0 || item->type == kPreallocated;
        const auto end = checked_add(extent.skip, extent.length);
        if (!end || (!extent.is_hole && *end > extent.unpacked)) return std::nullopt;
    }
    if (extent.length == 0 || extent.length > kLargestFile || extent.start > kLargestFile) return std::nullopt;
    return extent;
}

void FileExtents::cover(std::uint64_t first, std::uint64_t last, std::uint64_t leaf_generation) {
    constexpr std::size_t kMax = 4096;
    for (const Cover& cover : covers_)
        if (cover.generation >= leaf_generation && cover.first <= first && last <= cover.last) return;
    std::erase_if(covers_, [&](const Cover& cover) {
        return cover.generation <= leaf_generation && first <= cover.first && cover.last <= last;
    });
    if (covers_.size() >= kMax) return;
    covers_.push_back({first, last, leaf_generation});
    for (auto there = extents_.lower_bound(first); there != extents_.end() && there->first <= last;)
        there = there->second.first < leaf_generation ? extents_.erase(there) : std::next(there);
}

void FileExtents::add(const FileExtent& extent, std::uint64_t leaf_generation) {
    for (const Cover& cover : covers_)
        if (cover.generation > leaf_generation && cover.first <= extent.start && extent.start <= cover.last) return;
    const auto there = extents_.find(extent.start);
    if (there == extents_.end())
        extents_.emplace(extent.start, std::pair(leaf_generation, extent));
    else if (leaf_generation > there->second.first ||
             (leaf_generation == there->second.first && extent.generation > there->second.second.generation))
        there->second = {leaf_generation, extent};
}

void FileExtents::each(const std::function<void(const FileExtent&)>& visit) const {
    for (const auto& [start, entry] : extents_)
        if (!entry.second.is_hole && !entry.second.inline_place) visit(entry.second);
}

std::uint64_t FileExtents::told_by(const ByStart& extents) {
    std::uint64_t bytes = 0, reached = 0;
    for (const auto& [start, entry] : extents) {
        const FileExtent& extent = entry.second;
        const std::uint64_t first = std::max(start, reached), end = start + extent.length;
        if (end <= first) continue;
        if (extent.logical != 0) bytes += end - first;
        reached = end;
    }
    return bytes;
}

std::optional<FileExtents::ByStart> FileExtents::version_of(std::uint64_t stored) const {
    constexpr unsigned kMaxLeftOut = 64;  // generations
    ByStart some = extents_;
    std::uint64_t told = told_by(some);
    for (unsigned n = 0; n < kMaxLeftOut && told > stored; ++n) {
        std::uint64_t earliest = UINT64_MAX;
        for (const auto& [start, entry] : some) earliest = std::min(earliest, entry.first);
        std::erase_if(some, [&](const auto& one) { return one.second.first == earliest; });
        told = told_by(some);
    }
    return told == stored ? std::optional(std::move(some)) : std::nullopt;
}

std::vector<std::uint64_t> FileExtents::lay(const ChunkMap& chunks, Record& record,
                                            std::optional<std::uint64_t> stored) const {
    // One that stands in the tree is the only one.
    const bool is_inline = !extents_.empty() && extents_.begin()->second.second.inline_place;
    const std::uint64_t told = told_by(extents_), expected = stored && !is_inline ? *stored : told;
    const auto version = told > expected ? version_of(expected) : std::nullopt;
    const ByStart& extents = version ? *version : extents_;
    const bool some_are_lost = told < expected;
    VolumeLayout& layout = record.layout;
    std::vector<std::uint64_t> logicals;
    bool is_packed = false, all_inline = !extents.empty(), whole = true;
    std::uint64_t reached = 0;  // bytes of the file
    const auto add = [&](const LayoutExtent& extent, std::uint64_t logical) {
        LayoutExtent* last = layout.extents.empty() ? nullptr : &layout.extents.back();
        const bool continues = last != nullptr && !extent.pack.is_packed() && !last->pack.is_packed() &&
                               last->goes_on_with(extent) &&
                               (!extent.is_stored() || (logical != 0 && logicals.back() + last->length == logical));
        if (continues) {
            last->length += extent.length;
        } else {
            layout.extents.push_back(extent);
            logicals.push_back(logical);
        }
    };
    const auto fill = [&](const Extent& extent) {
        if (extent.length > 0) add(extent, 0);
        reached += extent.length;
    };
    const auto fill_untold = [&](std::uint64_t length) {
        fill(some_are_lost ? Extent::unknown(length) : Extent::zeros(length));
    };
    for (const auto& [start, entry] : extents) {
        const FileExtent& extent = entry.second;
        // What an older leaf tells of a place that a newer one covers is of an earlier version of the file.
        const std::uint64_t end = std::min(start + extent.length, record.size);
        if (start >= record.size || end <= reached) continue;
        if (start > reached) fill_untold(start - reached);
        const std::uint64_t cut = reached - start, length = end - reached;
        all_inline = all_inline && extent.inline_place;
        if (extent.is_hole) {
            fill(Extent::zeros(length));
        } else if (!extent.is_known) {
            whole = false;
            fill(Extent::unknown(length));
        } else if (extent.codec != Pack::Method::none) {
            is_packed = true;
            const auto places = extent.inline_place ? std::vector{*extent.inline_place}
                                                    : chunks.places_of(extent.logical, extent.stored);
            // Packed bytes never cross a chunk.
            const Extent place = places.size() == 1 ? places.front() : Extent::unknown(extent.stored);
            const auto small = [](std::uint64_t bytes) {
                return static_cast<std::uint32_t>(std::min<std::uint64_t>(bytes, UINT32_MAX));
            };
            // What is larger than any that a driver writes is nonsense, and can't be unpacked.
            add({place, {extent.codec, small(extent.skip + cut), small(extent.unpacked), small(length)}},
                extent.logical);
            reached += length;
        } else if (extent.inline_place) {
            add({extent.inline_place->offset + cut, length}, 0);
            reached += length;
        } else {
            std::uint64_t logical = extent.logical + extent.skip + cut;
            for (const Extent& place : chunks.places_of(logical, length)) {
                add(place, logical);
                logical += place.length;
                whole = whole && place.is_stored();
            }
            reached += length;
        }
    }
    if (reached < record.size) fill_untold(record.size - reached);
    if (is_packed) layout.codec = Codec::each;
    layout.within_records = all_inline && record.size > 0;
    if (some_are_lost) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back("a part of the list of its extents is lost");
    }
    if (!whole) {
        record.trust = LayoutTrust::damaged;
        record.notes.emplace_back(
            "a part of it lies where the map of chunks does not lead, or is packed in an unknown way");
    }
    return logicals;
}

void tell_inode(Record& record, std::uint64_t number, const Inode& inode) {
    record.is_folder = (inode.mode & kTypeMask) == kFolderType;
    record.size = record.is_folder ? 0 : inode.size;
    record.created = inode.created;
    record.modified = inode.modified;
    record.changed = inode.changed;
    record.accessed = inode.accessed;
    tell_inode_facts(record, number, inode.mode, inode.uid, inode.gid);
}

}  // namespace dredger::btrfs

#include "filesystems/ntfs/file.h"

#include <algorithm>
#include <set>
#include <tuple>

#include "base/text.h"
#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/index_slack.h"
#include "media/content.h"

namespace dredger::ntfs {
namespace {

constexpr std::uint64_t kLongestList = 256 << 10;  // bytes of an attribute list, the most that Windows makes
constexpr std::uint64_t kLargestUnit = 16 << 20;   // bytes packed together; drivers make 64 KiB
constexpr std::uint16_t kLznt1 = 1;                // in the compression bits of an attribute's flags

void take_times(const StandardInformation& information, File& file) {
    file.has_times = true;
    file.created = windows_time(information.CreationTime);
    file.modified = windows_time(information.LastModificationTime);
    file.changed = windows_time(information.LastChangeTime);
    file.accessed = windows_time(information.LastAccessTime);
    file.attributes = information.FileAttributes;
}

// [MS-FSCC] 2.1.2.4 and 2.1.2.5: the tag, two lengths, then offsets and lengths of two names.
void take_reparse_point(ByteView value, File& file) {
    file.reparse_tag = value.u32le(0).value_or(0);
    const bool is_symlink = file.reparse_tag == IO_REPARSE_TAG_SYMLINK;
    if (!is_symlink && file.reparse_tag != IO_REPARSE_TAG_MOUNT_POINT) return;
    const std::size_t names = is_symlink ? 20 : 16;
    const auto offset = value.u16le(12);
    const auto length = value.u16le(14);
    const auto target = offset && length ? value.slice(names + *offset, *length) : tl::unexpected(offset.error());
    if (target) file.link_target = utf16le_to_utf8(target->bytes());
}

}  // namespace

std::optional<Name> parse_name(ByteView value) {
    const auto on_disk = value.as<FileName>(0);
    const auto text = on_disk ? value.slice(sizeof(FileName), std::size_t{on_disk->FileNameLength} * 2)
                              : tl::unexpected(on_disk.error());
    if (!text || text->empty() || on_disk->Flags > FILE_NAME_WIN32_AND_DOS) return std::nullopt;
    Name name;
    name.parent = on_disk->ParentDirectory;
    name.text = utf16le_to_utf8(text->bytes());
    name.space = on_disk->Flags;
    name.size = on_disk->FileSize;
    name.attributes = on_disk->FileAttributes;
    name.created = windows_time(on_disk->CreationTime);
    name.modified = windows_time(on_disk->LastModificationTime);
    name.changed = windows_time(on_disk->LastChangeTime);
    name.accessed = windows_time(on_disk->LastAccessTime);
    return name;
}

// One attribute, or one of several pieces of it, that lies outside the records or holds content.
struct FileReader::Piece {
    std::uint32_t type = 0;
    std::string name;
    std::uint16_t flags = 0;
    bool resident = false;
    NonresidentForm form{};
    Runlist runs;
    std::vector<Extent> inside;  // resident: where the value stands, on the volume
    std::uint64_t size = 0;      // resident: bytes
    bool listed = true;          // false: its record was not named by the file's list
};

void FileReader::take_record(const RawRecord& record, File& file, std::vector<Piece>& pieces,
                             std::vector<std::byte>* list) const {
    AttributeReader reader(record.bytes, record.header);
    while (const auto attribute = reader.next()) {
        if (attribute->resident) {
            const auto information = attribute->value.as<StandardInformation>(0);
            switch (attribute->type) {
                case STANDARD_INFORMATION:
                    if (information) take_times(*information, file);
                    break;
                case FILE_NAME:
                    if (auto name = parse_name(attribute->value)) file.names.push_back(std::move(*name));
                    break;
                case VOLUME_NAME: file.volume_name = utf16le_to_utf8(attribute->value.bytes()); break;
                case VOLUME_INFORMATION:
                    if (const auto facts = attribute->value.as<VolumeInformation>(0))
                        file.volume_flags = facts->VolumeFlags;
                    break;
                case REPARSE_POINT: take_reparse_point(attribute->value, file); break;
                case ATTRIBUTE_LIST:
                    if (list != nullptr) list->assign(attribute->value.bytes().begin(), attribute->value.bytes().end());
                    break;
                default: break;
            }
            if (attribute->type != DATA) continue;
        }
        Piece piece;
        piece.type = attribute->type;
        piece.name = attribute->name.empty() ? std::string() : utf16le_to_utf8(attribute->name.bytes());
        piece.flags = attribute->flags;
        piece.resident = attribute->resident;
        if (piece.resident) {
            piece.size = attribute->value.size();
            piece.inside = mft_.locate(record, attribute->value_offset, attribute->value.size());
        } else {
            piece.form = attribute->nonresident;
            piece.runs = decode_mapping_pairs(attribute->mapping_pairs, piece.form.LowestVcn, geometry_);
            if (list != nullptr && piece.type == ATTRIBUTE_LIST) {
                const std::uint64_t size = std::min<std::uint64_t>(piece.form.FileSize, kLongestList);
                const Content content(volume_, extents_of(piece.runs, size, size, geometry_));
                list->resize(static_cast<std::size_t>(content.size()));
                std::vector<Extent> bad;
                if (!content.read(0, *list, &bad) || !bad.empty()) list->clear();
                if (list->empty()) file.damaged = true;
            }
        }
        pieces.push_back(std::move(piece));
    }
    if (record.torn || !reader.ended_well()) file.damaged = true;
}

// Each record that the list names, or that belongs to a deleted file without being named any more, and that says itself
// to continue this file. When a file is deleted, the sequence numbers of all its records rise by one.
void FileReader::follow_list(const RawRecord& base, ByteView list, std::span<const std::uint64_t> extensions,
                             File& file, std::vector<Piece>& pieces) const {
    std::set<std::uint64_t> seen = {base.number};
    const auto take = [&](std::uint64_t number, std::optional<std::uint16_t> sequence) {
        if (!seen.insert(number).second) return;
        const auto record = mft_.find(number);
        if (!record || record->header.BaseFileRecordSegment.number() != base.number) return;
        const bool in_use = base.in_use();
        if (sequence && !is_same_life(*sequence, record->header.SequenceNumber, in_use)) return;
        if (!is_same_life(record->header.BaseFileRecordSegment.SequenceNumber, base.header.SequenceNumber, in_use))
            return;
        const std::size_t before = pieces.size();
        take_record(*record, file, pieces, nullptr);
        for (std::size_t i = before; i < pieces.size(); ++i) pieces[i].listed = sequence.has_value();
    };
    for (std::size_t at = 0;;) {
        const auto entry = list.as<AttributeListEntry>(at);
        if (!entry || entry->RecordLength < sizeof(AttributeListEntry)) break;
        at += entry->RecordLength;
        take(entry->SegmentReference.number(), entry->SegmentReference.SequenceNumber);
    }
    for (const std::uint64_t number : extensions) take(number, std::nullopt);
}

File FileReader::read(const RawRecord& base, std::span<const std::uint64_t> extensions) const {
    File file;
    file.number = base.number;
    file.sequence = base.header.SequenceNumber;
    file.in_use = base.in_use();
    file.is_folder = base.is_folder();
    std::vector<Piece> pieces;
    std::vector<std::byte> list;
    take_record(base, file, pieces, &list);
    if (!list.empty() || !extensions.empty()) follow_list(base, ByteView(list), extensions, file, pieces);
    join(std::move(pieces), file);
    if (file.names.empty()) find_former_names(base, extensions, file);
    if (!file.has_times && !file.names.empty()) {
        const Name& name = file.names.front();
        std::tie(file.created, file.modified, file.changed, file.accessed) =
            std::tie(name.created, name.modified, name.changed, name.accessed);
        file.attributes = name.attributes;
    }
    return file;
}

// A name that is taken out of a record is covered by the mark of the end, or by what stood behind it; mostly only its
// header is.
void FileReader::find_former_names(const RawRecord& base, std::span<const std::uint64_t> extensions, File& file) const {
    const auto look = [&](const RawRecord& record) {
        std::vector<FormerName> found;
        ntfs::find_former_names(record.bytes, record.header.FirstAttributeOffset, {}, found);
        for (FormerName& former : found)
            if (former.name.parent.SequenceNumber != 0) file.former_names.push_back(std::move(former.name));
    };
    look(base);
    for (const std::uint64_t number : extensions)
        if (const auto record = mft_.find(number)) look(*record);
}

// Puts the pieces of each attribute together, in the order of their clusters.
void FileReader::join(std::vector<Piece>&& pieces, File& file) const {
    std::stable_sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) {
        return std::tuple(a.type, std::string_view(a.name), a.form.LowestVcn.value()) <
               std::tuple(b.type, std::string_view(b.name), b.form.LowestVcn.value());
    });
    for (std::size_t first = 0; first < pieces.size();) {
        Runlist runs = std::move(pieces[first].runs);
        std::size_t next = first + 1;
        for (; next < pieces.size() && pieces[next].type == pieces[first].type &&
               pieces[next].name == pieces[first].name && !pieces[next].resident && !pieces[first].resident;
             ++next) {
            // A record that was given up while the file still lived may tell of what it had once.
            const bool goes_on = pieces[next].form.LowestVcn == runs.end();
            if (pieces[next].listed || goes_on) runs.append(pieces[next].runs);
        }
        const Piece& piece = pieces[first];
        first = next;
        if (piece.type == DATA) {
            take_data(piece, std::move(runs), file);
            continue;
        }
        const std::uint64_t size = runs.end() * geometry_.cluster_size;
        std::vector<Extent> extents = extents_of(runs, size, size, geometry_);
        if (piece.type == INDEX_ALLOCATION) file.index.insert(file.index.end(), extents.begin(), extents.end());
        file.keeping.insert(file.keeping.end(), extents.begin(), extents.end());
    }
    std::stable_partition(file.streams.begin(), file.streams.end(), [](const Stream& s) { return s.name.empty(); });
}

void FileReader::take_data(const Piece& first, Runlist&& runs, File& file) const {
    if (!first.resident) {
        file.streams.push_back(nonresident_stream(first.name, first.flags, first.form, std::move(runs), geometry_));
        return;
    }
    Stream stream;
    stream.name = first.name;
    stream.encrypted = (first.flags & ATTRIBUTE_FLAG_ENCRYPTED) != 0;
    stream.size = first.size;
    stream.layout.lay(first.inside);
    stream.layout.within_records = true;
    file.streams.push_back(std::move(stream));
}

Stream nonresident_stream(const std::string& name, std::uint16_t flags, const NonresidentForm& form, Runlist&& runs,
                          const Geometry& geometry) {
    Stream stream;
    stream.name = name;
    stream.encrypted = (flags & ATTRIBUTE_FLAG_ENCRYPTED) != 0;
    const bool tells_sizes = form.LowestVcn == 0;
    // Without its first piece an attribute does not tell its size: what lies there is the least that it had.
    stream.size = tells_sizes ? form.FileSize.value() : runs.end() * geometry.cluster_size;
    stream.whole = runs.whole && tells_sizes;
    const bool compressed = (flags & ATTRIBUTE_FLAG_COMPRESSION_MASK) == kLznt1 && form.CompressionUnit > 0;
    const std::uint64_t valid = tells_sizes ? std::min(form.ValidDataLength.value(), stream.size) : stream.size;
    if (!compressed) {
        stream.layout.lay(extents_of(runs, stream.size, valid, geometry));
        return stream;
    }
    const auto unit =
        checked_mul(geometry.cluster_size, std::uint64_t{1} << std::min<unsigned>(form.CompressionUnit, 16));
    if (!unit || *unit > kLargestUnit) {
        stream.whole = false;
        return stream;
    }
    const auto units = checked_mul(divide_up(stream.size, *unit), *unit);
    stream.layout.codec = Codec::lznt1;
    stream.layout.unit = static_cast<std::uint32_t>(*unit);
    if (units) stream.layout.lay(extents_of(runs, *units, *units, geometry));
    return stream;
}

}  // namespace dredger::ntfs

#include "filesystems/ntfs/mft.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"

namespace dredger::ntfs {
namespace {

constexpr std::size_t kReadAtOnce = 1 << 20;  // bytes
constexpr std::size_t kMaxListEntries = 1 << 16;

}  // namespace

std::optional<RawRecord> Mft::interpret(std::uint64_t number, std::span<std::byte> bytes) const {
    const ByteView view(bytes);
    const bool torn_by_name = view.has(0, "BAAD");
    if (!view.has(0, "FILE") && !torn_by_name) return std::nullopt;
    const std::size_t good = apply_fixups(bytes);
    RawRecord record;
    record.number = number;
    record.offset = number * geometry_->record_size;
    record.torn = torn_by_name || good < bytes.size();
    record.bytes = ByteView(bytes.first(good), record.offset);
    const auto header = record.bytes.as<FileRecordSegmentHeader>(0);
    if (!header || header->FirstAttributeOffset < 40 || header->FirstAttributeOffset >= good) return std::nullopt;
    record.header = *header;
    // Since Windows XP a record tells its own number, unless it was made with the volume and not used since: one that
    // stands in the wrong place belongs to something else.
    const bool tells_number = header->MultiSector.UpdateSequenceArrayOffset >= sizeof(FileRecordSegmentHeader);
    const std::uint64_t told = std::uint64_t{header->SegmentNumberHighPart} << 32 | header->SegmentNumberLowPart;
    if (tells_number && told != 0 && told != number) return std::nullopt;
    return record;
}

Result<Mft> Mft::open(MediumPtr volume, const Geometry& geometry, std::vector<std::string>& warnings) {
    Mft mft(std::move(volume), geometry);
    for (const std::uint64_t cluster : {geometry.mft_cluster, geometry.mirror_cluster}) {
        const bool is_mirror = cluster == geometry.mirror_cluster && cluster != geometry.mft_cluster;
        auto bytes = geometry.holds(cluster) ? mft.volume_->bytes(cluster * geometry.cluster_size, geometry.record_size)
                                             : Result<std::vector<std::byte>>();
        const auto first = bytes && !bytes->empty() ? mft.interpret(MASTER_FILE_TABLE_NUMBER, *bytes) : std::nullopt;
        if (!first || first->torn) continue;
        const auto opened = mft.follow_own_runs(*first, warnings);
        if (!opened) continue;
        if (is_mirror) warnings.emplace_back("the first record of the file table is damaged; its copy is used");
        return mft;
    }
    return fail(ErrorKind::not_understood, "the first record of the file table and its copy are damaged",
                fmt::format("clusters {} and {}", geometry.mft_cluster, geometry.mirror_cluster),
                "look for its files by their content");
}

Mft Mft::lying_at(MediumPtr volume, const Geometry& geometry, std::vector<Extent> extents) {
    Mft mft(std::move(volume), geometry);
    mft.set_extents(std::move(extents));
    return mft;
}

void Mft::set_extents(std::vector<Extent> extents) {
    extents_ = std::move(extents);
    starts_.clear();
    std::uint64_t at = 0;
    for (const Extent& extent : extents_) {
        starts_.push_back(at);
        at += extent.length;
    }
    // However often a damaged table names the same clusters, no more records than the volume has room for.
    record_count_ = std::min(at, volume_->size()) / geometry_->record_size;
}

// The table's own extension records lie within the part that the records before them tell of.
Result<void> Mft::follow_own_runs(RawRecord first, std::vector<std::string>& warnings) {
    Runlist runs;
    std::uint64_t size = 0;
    std::vector<AttributeListEntry> list;
    const auto take_list = [&](ByteView value) {
        for (std::size_t at = 0; list.size() < kMaxListEntries;) {
            const auto entry = value.as<AttributeListEntry>(at);
            if (!entry || entry->RecordLength < sizeof(AttributeListEntry)) break;
            if (entry->AttributeTypeCode == DATA && entry->SegmentReference.number() != MASTER_FILE_TABLE_NUMBER)
                list.push_back(*entry);
            at += entry->RecordLength;
        }
    };
    AttributeReader attributes(first.bytes, first.header);
    std::vector<std::byte> stored_list;
    while (const auto attribute = attributes.next()) {
        if (attribute->type == DATA && !attribute->resident && attribute->name.empty()) {
            runs = decode_mapping_pairs(attribute->mapping_pairs, attribute->nonresident.LowestVcn, *geometry_);
            size = attribute->nonresident.FileSize;
        } else if (attribute->type == ATTRIBUTE_LIST && attribute->resident) {
            take_list(attribute->value);
        } else if (attribute->type == ATTRIBUTE_LIST) {
            const auto where = decode_mapping_pairs(attribute->mapping_pairs, 0, *geometry_);
            const std::uint64_t bytes = std::min<std::uint64_t>(attribute->nonresident.FileSize, kMaxListEntries * 32);
            for (const Extent& extent : extents_of(where, bytes, bytes, *geometry_)) {
                if (!extent.is_stored()) continue;
                const auto part = volume_->bytes(extent.offset, static_cast<std::size_t>(extent.length));
                if (part) stored_list.insert(stored_list.end(), part->begin(), part->end());
            }
            take_list(ByteView(stored_list));
        }
    }
    if (runs.runs.empty() || runs.runs.front().vcn != 0 || runs.runs.front().is_sparse())
        return fail(ErrorKind::not_understood, "the file table does not tell where it lies");
    set_extents(extents_of(runs, size, size, *geometry_));
    for (const AttributeListEntry& entry : list) {
        const auto further = find(entry.SegmentReference.number());
        if (!further || further->torn) {
            warnings.emplace_back("a part of the file table's own layout is damaged: records of that part are missing");
            continue;
        }
        AttributeReader more(further->bytes, further->header);
        while (const auto attribute = more.next()) {
            if (attribute->type != DATA || attribute->resident || !attribute->name.empty()) continue;
            runs.append(decode_mapping_pairs(attribute->mapping_pairs, attribute->nonresident.LowestVcn, *geometry_));
        }
        set_extents(extents_of(runs, size, size, *geometry_));
    }
    if (!runs.whole) warnings.emplace_back("the file table's own layout is damaged: a part of its records is missing");
    return {};
}

// What can't be read comes as zeros; false where all of it can't.
bool Mft::read(std::uint64_t offset, std::span<std::byte> into) const {
    auto extent = static_cast<std::size_t>(std::upper_bound(starts_.begin(), starts_.end(), offset) - starts_.begin());
    std::fill(into.begin(), into.end(), std::byte{0});
    bool any = false;
    while (!into.empty() && extent > 0 && extent <= extents_.size()) {
        const Extent& where = extents_[extent - 1];
        const std::uint64_t skip = offset - starts_[extent - 1];
        if (skip >= where.length) return any;
        const auto part =
            into.first(static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), where.length - skip)));
        std::vector<Extent> bad;
        if (where.is_stored() && volume_->read(where.offset + skip, part, &bad)) any = true;
        into = into.subspan(part.size());
        offset += part.size();
        ++extent;
    }
    return any;
}

std::uint64_t Mft::each(const std::function<bool(const RawRecord&)>& visit) const {
    const std::size_t size = geometry_->record_size;
    const std::uint64_t at_once = std::max<std::size_t>(kReadAtOnce / size, 1);
    std::vector<std::byte> chunk(static_cast<std::size_t>(at_once * size));
    std::uint64_t damaged = 0;
    for (std::uint64_t first = 0; first < record_count_; first += at_once) {
        const auto count = static_cast<std::size_t>(std::min(at_once, record_count_ - first));
        const auto part = std::span(chunk).first(count * size);
        if (!read(first * size, part)) {
            damaged += count;
            continue;
        }
        for (std::size_t i = 0; i < count; ++i) {
            const auto bytes = part.subspan(i * size, size);
            const auto record = interpret(first + i, bytes);
            if (record && !visit(*record)) return damaged;
            if (!record && !ByteView(bytes.first(4)).is_uniform()) ++damaged;
        }
    }
    return damaged;
}

std::optional<RawRecord> Mft::find(std::uint64_t number) const {
    if (number >= record_count_) return std::nullopt;
    one_.resize(geometry_->record_size);
    if (!read(number * geometry_->record_size, one_)) return std::nullopt;
    return interpret(number, one_);
}

std::vector<Extent> Mft::locate(const RawRecord& record, std::size_t offset, std::size_t length) const {
    std::vector<Extent> places;
    const std::size_t array = record.header.MultiSector.UpdateSequenceArrayOffset;
    for_each_stored_run(array, offset, length, [&](std::size_t from, std::size_t run_length) {
        std::uint64_t at = record.offset + from;
        std::uint64_t left = run_length;
        auto extent = static_cast<std::size_t>(std::upper_bound(starts_.begin(), starts_.end(), at) - starts_.begin());
        for (; left > 0 && extent > 0 && extent <= extents_.size(); ++extent) {
            const Extent& where = extents_[extent - 1];
            const std::uint64_t skip = at - starts_[extent - 1];
            const std::uint64_t part = std::min(left, where.length - std::min(skip, where.length));
            places.push_back(where.is_stored() ? Extent{where.offset + skip, part} : Extent::unknown(part));
            at += part;
            left -= part;
        }
    });
    return places;
}

}  // namespace dredger::ntfs

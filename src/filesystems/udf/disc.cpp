#include "filesystems/udf/disc.h"

#include <algorithm>
#include <ctime>
#include <fmt/format.h>
#include <numeric>

#include "base/checked.h"
#include "media/content.h"

namespace dredger::udf {
namespace {

constexpr std::uint64_t kAnchorSector = 256;
constexpr std::uint32_t kLongestSequence = 4 << 20;  // bytes
constexpr unsigned kMaxContinuations = 10'000;
constexpr std::size_t kMaxExtents = 1 << 20;
constexpr std::uint32_t kLengthMask = 0x3FFFFFFF;

template <class T>
std::optional<T> descriptor(ByteView view, std::uint16_t identifier) {
    const auto tag = tag_of(view);
    const auto value = view.as<T>(0);
    return tag && tag->identifier == identifier && value ? std::optional(*value) : std::nullopt;
}

}  // namespace

std::optional<Tag> tag_of(ByteView view) {
    const auto tag = view.as<Tag>(0);
    if (!tag) return std::nullopt;
    std::uint8_t sum = 0;
    for (std::size_t i = 0; i < sizeof(Tag); ++i)
        if (i != offsetof(Tag, checksum)) sum = static_cast<std::uint8_t>(sum + *view.u8(i));
    return sum == tag->checksum && tag->identifier != 0 ? std::optional(*tag) : std::nullopt;
}

std::string text_of(ByteView view) {
    if (view.size() < 2) return {};
    const unsigned stored = *view.u8(0);
    std::u16string text;
    if (stored == 8 || stored == 254)
        for (std::size_t i = 1; i < view.size(); ++i) text += static_cast<char16_t>(*view.u8(i));
    else if (stored == 16 || stored == 255)
        for (std::size_t i = 1; i + 1 < view.size(); i += 2)
            text += static_cast<char16_t>(*view.u8(i) << 8U | *view.u8(i + 1));
    return utf16_to_utf8(text);
}

std::optional<FileTime> time_of(const Timestamp& stamp) {
    if (stamp.month < 1 || stamp.month > 12 || stamp.day < 1 || stamp.day > 31 || stamp.hour > 23 ||
        stamp.minute > 59 || stamp.second > 59 || stamp.year < 1 || stamp.year > 9999)
        return std::nullopt;
    std::tm parts{};
    parts.tm_year = stamp.year - 1900;
    parts.tm_mon = stamp.month - 1;
    parts.tm_mday = stamp.day;
    parts.tm_hour = stamp.hour;
    parts.tm_min = stamp.minute;
    parts.tm_sec = stamp.second;
    std::int64_t seconds = ::timegm(&parts);
    auto zone = static_cast<int>(stamp.type_and_zone & 0xFFFU);
    if (zone >= 0x800) zone -= 0x1000;
    constexpr int kNotTold = -2047;
    const bool is_local = zone == kNotTold;
    if (!is_local) seconds -= std::int64_t{zone} * 60;
    const std::uint32_t nanoseconds =
        (stamp.centiseconds * 10'000U + stamp.hundreds * 100U + stamp.microseconds) * 1000U;
    return FileTime{seconds, std::min(nanoseconds, 999'999'999U),
                    is_local ? FileTime::Clock::local : FileTime::Clock::utc};
}

std::optional<Disc> Disc::open(MediumPtr volume, std::vector<std::string>& warnings) {
    Disc disc;
    disc.volume_ = std::move(volume);
    for (const std::uint64_t block : {2048U, 512U, 4096U, 1024U}) {
        const std::uint64_t sectors = disc.volume_->size() / block;
        for (const std::uint64_t sector :
             {kAnchorSector, sectors - 1, sectors - 1 - kAnchorSector, std::uint64_t{512}}) {
            const auto bytes = sector < sectors ? bytes_at(*disc.volume_, sector * block, 512) : std::nullopt;
            const auto anchor =
                bytes ? descriptor<AnchorVolumeDescriptorPointer>(ByteView(*bytes), kAnchor) : std::nullopt;
            if (!anchor || anchor->tag.location != sector) continue;
            disc.block_ = block;
            if (disc.read_volume(anchor->main, warnings)) return disc;
            if (disc.read_volume(anchor->reserve, warnings)) {
                warnings.emplace_back("the descriptors of the disc are damaged; the reserve of them is used");
                return disc;
            }
        }
    }
    return std::nullopt;
}

bool Disc::read_volume(const ExtentAd& sequence, std::vector<std::string>& warnings) {
    if (sequence.length == 0 || sequence.length > kLongestSequence) return false;
    std::map<std::uint16_t, PartitionDescriptor> partitions;
    std::optional<LogicalVolumeDescriptor> logical;
    std::vector<std::byte> maps;
    for (std::uint64_t n = 0; n * block_ < sequence.length; ++n) {
        const auto bytes = bytes_at(*volume_, (sequence.location + n) * block_, static_cast<std::size_t>(block_));
        if (!bytes) break;
        const ByteView view(*bytes);
        const auto tag = tag_of(view);
        if (!tag) continue;
        if (tag->identifier == kTerminating) break;
        // Of several of a kind the one with the highest number counts.
        if (const auto p = descriptor<PartitionDescriptor>(view, kPartition))
            if (!partitions.contains(p->number) || partitions[p->number].sequence_number <= p->sequence_number)
                partitions[p->number] = *p;
        if (const auto l = descriptor<LogicalVolumeDescriptor>(view, kLogicalVolume))
            if (!logical || logical->sequence_number <= l->sequence_number) {
                logical = l;
                maps.assign(bytes->begin() + sizeof(LogicalVolumeDescriptor), bytes->end());
            }
    }
    if (!logical || logical->block_size != block_ || partitions.empty()) return false;
    constexpr std::size_t kLastByte = 127;  // of a dstring: how many of its bytes are used
    const std::size_t used = std::min<std::size_t>(static_cast<std::size_t>(logical->identifier[kLastByte]), kLastByte);
    label_ = text_of(ByteView(std::span<const std::byte>(logical->identifier, used)));
    if (!read_partition_maps(ByteView(maps), logical->partition_maps, partitions, warnings)) return false;

    const auto place = place_of(logical->file_set.partition, logical->file_set.block);
    const auto bytes = place ? bytes_at(*volume_, *place, 512) : std::nullopt;
    const auto set = bytes ? descriptor<FileSetDescriptor>(ByteView(*bytes), kFileSet) : std::nullopt;
    if (!set) return false;
    root_ = set->root;
    return true;
}

bool Disc::read_partition_maps(ByteView maps, std::uint32_t count,
                               const std::map<std::uint16_t, PartitionDescriptor>& partitions,
                               std::vector<std::string>& warnings) {
    constexpr std::uint32_t kMax = 64;
    partitions_.clear();
    std::size_t at = 0;
    for (std::uint32_t n = 0; n < std::min(count, kMax); ++n) {
        const auto type = maps.u8(at), length = maps.u8(at + 1);
        if (!type || !length || *length < 6) return false;
        const auto map = maps.slice(at, *length);
        if (!map) return false;
        at += *length;
        const bool is_plain = *type == 1;
        const auto number = map->u16le(is_plain ? 4 : 38);
        const auto found = number ? partitions.find(*number) : partitions.end();
        if (found == partitions.end()) return false;
        Partition partition{found->second.starting_location, found->second.length, {}, {}};
        partitions_.push_back(partition);
        if (is_plain) continue;
        const auto reference = static_cast<std::uint16_t>(partitions_.size() - 1);
        if (map->has(5, "*UDF Virtual Partition")) {
            if (!read_virtual_table(partitions_.back(), reference)) return false;
        } else if (map->has(5, "*UDF Metadata Partition")) {
            // Its own file, and a mirror of that, are named by blocks of the plain partition.
            LongAd icb{};
            icb.partition = 0;
            std::optional<Node> file;
            for (const std::size_t field : {40U, 44U}) {
                icb.block = map->u32le(field).value_or(0);
                if (!file) file = node(icb);
            }
            if (!file) return false;
            partitions_.back().metadata.assign(file->layout.extents.begin(), file->layout.extents.end());
        } else if (!map->has(5, "*UDF Sparable Partition")) {
            warnings.emplace_back("a part of the disc is laid out in a way that is not known");
        }
    }
    return !partitions_.empty();
}

// The virtual allocation table is the last file that was written to a write-once disc: its entry is the last block.
bool Disc::read_virtual_table(Partition& partition, std::uint16_t reference) {
    constexpr std::uint64_t kBehind = 160;  // blocks: drives end a disc with some that hold nothing
    const std::uint64_t blocks = volume_->size() / block_;
    for (std::uint64_t n = 1; n <= std::min(blocks, kBehind); ++n) {
        const std::uint64_t sector = blocks - n;
        if (sector < partition.start) return false;
        LongAd icb{};
        icb.partition = 0;
        icb.block = static_cast<std::uint32_t>(sector - partition.start);
        const auto file = node(icb);
        constexpr std::uint8_t kOldTable = 0, kTable = 248;
        if (!file || (file->type != kTable && file->type != kOldTable) || file->size < 8 || file->size > (64 << 20))
            continue;
        const auto content = open_content(volume_, file->layout, file->size);
        const auto bytes = content->bytes(0, static_cast<std::size_t>(file->size));
        if (!bytes) continue;
        const ByteView view(*bytes);
        const std::size_t from = file->type == kTable ? view.u16le(0).value_or(0) : 0;
        std::size_t end = view.size();
        if (file->type == kOldTable) end -= std::min<std::size_t>(end, 36);
        for (std::size_t at = from; at + 4 <= end; at += 4)
            partitions_[reference].virtual_blocks.push_back(*view.u32le(at));
        return !partitions_[reference].virtual_blocks.empty();
    }
    return false;
}

std::uint64_t Disc::size() const {
    std::uint64_t end = 0;
    for (const Partition& partition : partitions_) end = std::max(end, (partition.start + partition.length) * block_);
    return end;
}

std::optional<std::uint64_t> Disc::place_of(std::uint16_t partition, std::uint32_t block) const {
    if (partition >= partitions_.size()) return std::nullopt;
    const Partition& p = partitions_[partition];
    if (!p.virtual_blocks.empty()) {
        constexpr std::uint32_t kUnused = 0xFFFFFFFF;
        if (block >= p.virtual_blocks.size() || p.virtual_blocks[block] == kUnused) return std::nullopt;
        return (p.start + p.virtual_blocks[block]) * block_;
    }
    if (!p.metadata.empty()) {
        std::uint64_t left = block * block_;
        for (const Extent& extent : p.metadata) {
            if (left < extent.length) return extent.is_stored() ? std::optional(extent.offset + left) : std::nullopt;
            left -= extent.length;
        }
        return std::nullopt;
    }
    return (p.start + block) * block_;
}

std::optional<Node> Disc::node(const LongAd& icb) const {
    const auto place = place_of(icb.partition, icb.block);
    const auto bytes = place ? bytes_at(*volume_, *place, static_cast<std::size_t>(block_)) : std::nullopt;
    if (!bytes) return std::nullopt;
    const ByteView view(*bytes);
    Node node;
    node.place = *place;
    node.own = {{*place, block_}};
    std::size_t ads_at = 0;
    std::uint32_t ads_length = 0;
    std::uint16_t flags = 0;
    // Both kinds of entries have these fields.
    const auto take = [&](const auto& entry) {
        node.type = entry.icb.file_type;
        node.size = entry.information_length;
        node.modified = time_of(entry.modified);
        node.accessed = time_of(entry.accessed);
        node.changed = time_of(entry.attributes_changed);
        node.uid = entry.uid;
        node.gid = entry.gid;
        node.permissions = entry.permissions;
        node.links = entry.links;
        ads_at = sizeof entry + std::size_t{entry.extended_attributes_length};
        ads_length = entry.allocation_length;
        flags = entry.icb.flags;
    };
    if (const auto entry = descriptor<FileEntry>(view, kFileEntry)) {
        take(*entry);
    } else if (const auto extended = descriptor<ExtendedFileEntry>(view, kExtendedFileEntry)) {
        take(*extended);
        node.created = time_of(extended->created);
    } else {
        return std::nullopt;
    }
    const auto ads = view.slice(ads_at, ads_length);
    if (!ads) return std::nullopt;
    if ((flags & 7U) == kEmbedded) {
        node.layout.extents = {{*place + ads_at, std::min<std::uint64_t>(node.size, ads_length)}};
        node.layout.within_records = true;
        if (node.size == 0) node.layout = {};
    } else {
        add_extents(*ads, flags & 7U, icb.partition, node.size, node);
    }
    return node;
}

void Disc::add_extents(ByteView ads, unsigned type, std::uint16_t partition, std::uint64_t size, Node& node) const {
    std::vector<std::byte> continued;
    std::uint64_t left = size;
    unsigned continuations = 0;
    const std::size_t step = type == kShortAds ? sizeof(ShortAd) : sizeof(LongAd);
    for (std::size_t at = 0; left > 0 && at + step <= ads.size() && node.layout.extents.size() < kMaxExtents;) {
        std::uint32_t length = 0, block = 0;
        std::uint16_t where = partition;
        if (type == kShortAds) {
            const auto ad = *ads.as<ShortAd>(at);
            length = ad.length;
            block = ad.position;
        } else {
            const auto ad = *ads.as<LongAd>(at);
            length = ad.length;
            block = ad.block;
            where = ad.partition;
        }
        at += step;
        const std::uint32_t kind = length >> 30U;
        const std::uint64_t bytes = std::min<std::uint64_t>(length & kLengthMask, left);
        if ((length & kLengthMask) == 0) break;
        const auto place = place_of(where, block);
        if (kind == kContinued) {
            const auto next = place && ++continuations < kMaxContinuations
                                  ? bytes_at(*volume_, *place, static_cast<std::size_t>(block_))
                                  : std::nullopt;
            constexpr std::size_t kHeader = 24;  // tag, previous extent, length of the descriptors
            const auto tag = next ? tag_of(ByteView(*next)) : std::nullopt;
            if (!tag || tag->identifier != kAllocationExtent) break;
            node.own.push_back({*place, block_});
            continued = *next;
            const std::size_t count = std::min<std::size_t>(*ByteView(continued).u32le(20), continued.size() - kHeader);
            ads = ByteView(std::span(continued).subspan(kHeader, count));
            at = 0;
            continue;
        }
        if (kind == kHole || kind == kAllocated)
            node.layout.extents.emplace_back(Extent::zeros(bytes));
        else
            node.layout.extents.push_back(place ? Extent{*place, bytes} : Extent::unknown(bytes));
        left -= bytes;
    }
}

}  // namespace dredger::udf

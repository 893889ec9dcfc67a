#include "filesystems/hfsplus/volume.h"

#include <algorithm>

#include "base/text.h"
#include "volumes/trace.h"

namespace dredger::hfsplus {
namespace {

bool is_power_of_two(std::uint64_t n) { return n != 0 && (n & (n - 1)) == 0; }

// Where a volume lies within the older HFS that wraps it.
std::optional<Extent> embedded_in(const Medium& volume) {
    const auto bytes = bytes_at(volume, kHeaderAt, sizeof(WrapperBlock));
    if (!bytes || !ByteView(*bytes).has(0, "BD") || !ByteView(*bytes).has(offsetof(WrapperBlock, drEmbedSigWord), "H+"))
        return std::nullopt;
    const auto block = *ByteView(*bytes).as<WrapperBlock>(0);
    const std::uint64_t unit = block.drAlBlkSiz;
    return Extent{std::uint64_t{block.drAlBlSt} * 512 + unit * block.drEmbedStart, unit * block.drEmbedCount};
}

std::optional<Geometry> header_at(const Medium& volume, std::uint64_t place, std::uint64_t base) {
    const auto bytes = bytes_at(volume, place, sizeof(VolumeHeader));
    auto geometry = bytes ? parse_volume_header(ByteView(*bytes, place)) : std::nullopt;
    if (geometry) geometry->base = base;
    return geometry;
}

}  // namespace

Fork Fork::of(const ForkData& data) {
    Fork fork{data.logicalSize, data.totalBlocks, {}};
    std::copy(std::begin(data.extents), std::end(data.extents), fork.extents.begin());
    return fork;
}

std::optional<Geometry> parse_volume_header(ByteView view) {
    using namespace std::string_view_literals;
    const auto header = view.as<VolumeHeader>(0);
    const bool is_hfsx = view.has(0, "HX\0\5"sv);
    if (!header || (!is_hfsx && !view.has(0, "H+\0\4"sv))) return std::nullopt;
    if (!is_power_of_two(header->blockSize) || header->blockSize < 512 || header->totalBlocks == 0 ||
        header->freeBlocks > header->totalBlocks)
        return std::nullopt;
    Geometry geometry;
    geometry.block_size = header->blockSize;
    geometry.total_blocks = header->totalBlocks;
    geometry.free_blocks = header->freeBlocks;
    geometry.next_id = header->nextCatalogID;
    geometry.is_hfsx = is_hfsx;
    geometry.was_unmounted = (header->attributes & kVolumeUnmountedBit) != 0;
    if ((header->attributes & kVolumeJournaledBit) != 0) geometry.journal_info_block = header->journalInfoBlock;
    geometry.allocation = Fork::of(header->allocationFile);
    geometry.extents = Fork::of(header->extentsFile);
    geometry.catalog = Fork::of(header->catalogFile);
    geometry.attributes = Fork::of(header->attributesFile);
    return geometry;
}

std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    const Extent within = embedded_in(volume).value_or(Extent{0, volume.size()});
    if (auto first = header_at(volume, within.offset + kHeaderAt, within.offset)) return first;
    const auto end = checked_add(within.offset, within.length);
    if (!end || *end < within.offset + 2 * kHeaderAt) return std::nullopt;
    auto alternate = header_at(volume, *end - kHeaderAt, within.offset);
    facts.is_mountable = false;
    if (alternate) facts.warnings.emplace_back("the volume header is damaged; its alternate is used");
    return alternate;
}

std::optional<FileTime> time_of(std::uint32_t date) {
    constexpr std::int64_t kFrom1904 = 2'082'844'800;  // seconds from then to 1970
    if (date == 0) return std::nullopt;
    return FileTime{std::int64_t{date} - kFrom1904};
}

std::string name_of(ByteView utf16be) {
    std::u16string units;
    for (std::size_t i = 0; i + 1 < utf16be.size(); i += 2) {
        const auto unit = static_cast<char16_t>(utf16be.as<big_uint16_t>(i)->value());
        units += unit == u'/' ? u':' : unit;
    }
    return composed(utf16_to_utf8(units));
}

}  // namespace dredger::hfsplus

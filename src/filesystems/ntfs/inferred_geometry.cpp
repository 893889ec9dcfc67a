#include "filesystems/ntfs/inferred_geometry.h"

#include <bit>

#include "filesystems/ntfs/attributes.h"
#include "filesystems/ntfs/fixups.h"
#include "filesystems/ntfs/runlist.h"
#include "volumes/trace.h"

namespace dredger::ntfs {
namespace {

constexpr std::uint64_t kChunk = 1 << 20;          // bytes read together
constexpr std::uint64_t kMaxRead = 64 << 20;       // bytes from the start
constexpr std::uint64_t kUsualPlace = 3ULL << 30;  // where Windows puts the table on large volumes
constexpr std::uint64_t kSector = 512;
constexpr std::size_t kMaxRecord = 4096;
constexpr std::u16string_view kOwnName = u"$MFT";

bool is_own_name(const Attribute& attribute) {
    constexpr std::size_t kNameAt = 66;  // of the characters in a $FILE_NAME
    return attribute.type == FILE_NAME && attribute.resident && attribute.value.u8(kNameAt - 2) == kOwnName.size() &&
           attribute.value.has(kNameAt, std::string_view("$\0M\0F\0T\0", 8));
}

std::optional<Geometry> geometry_from(const Medium& volume, std::span<std::byte> bytes) {
    const std::size_t good = apply_fixups(bytes);
    const ByteView record(bytes.first(good));
    const auto header = record.as<FileRecordSegmentHeader>(0);
    if (!header || header->FirstAttributeOffset < 40 || header->FirstAttributeOffset >= good) return std::nullopt;
    Geometry g;
    g.record_size = header->BytesAvailable;
    g.index_size = 4096;
    if (!std::has_single_bit(g.record_size) || g.record_size < 512 || g.record_size > kMaxRecord) return std::nullopt;
    bool is_own = false;
    AttributeReader attributes(record, *header);
    while (const auto attribute = attributes.next()) {
        is_own = is_own || is_own_name(*attribute);
        if (attribute->type != DATA || attribute->resident || !attribute->name.empty() || !is_own) continue;
        const std::uint64_t clusters = std::uint64_t{attribute->nonresident.HighestVcn} + 1;
        const std::uint64_t size = clusters == 0 ? 0 : attribute->nonresident.AllocatedLength / clusters;
        if (!std::has_single_bit(size) || size < 512 || size > 2 << 20) return std::nullopt;
        g.cluster_size = static_cast<std::uint32_t>(size);
        g.size = volume.size();
        g.cluster_count = g.size / size;
        const Runlist runs = decode_mapping_pairs(attribute->mapping_pairs, 0, g);
        if (runs.runs.empty() || runs.runs.front().is_sparse()) return std::nullopt;
        g.mft_cluster = g.mirror_cluster = runs.runs.front().lcn;
        if (!stands_at(volume, g.mft_cluster * size, "FILE")) return std::nullopt;
        return g;
    }
    return std::nullopt;
}

}  // namespace

std::optional<Geometry> infer_geometry(const Medium& volume) {
    std::vector<std::byte> chunk;
    for (const auto& [from, to] : {std::pair(std::uint64_t{0}, kMaxRead), std::pair(kUsualPlace, kUsualPlace + kChunk)})
        for (std::uint64_t at = from; at < std::min(to, volume.size()); at += kChunk) {
            chunk.resize(static_cast<std::size_t>(std::min(kChunk + kMaxRecord, volume.size() - at)));
            std::vector<Extent> bad;
            if (!volume.read(at, chunk, &bad)) continue;
            for (std::size_t i = 0; i < std::min<std::size_t>(kChunk, chunk.size()); i += kSector) {
                const auto there = std::span(chunk).subspan(i, std::min(kMaxRecord, chunk.size() - i));
                const ByteView view(there);
                // Only the first record has the number 0 and a number of its own life that never changes.
                const auto header = view.as<FileRecordSegmentHeader>(0);
                if (!view.has(0, "FILE") || !header || header->SegmentNumberLowPart != 0 ||
                    header->SequenceNumber != 1 || header->BytesAvailable > there.size())
                    continue;
                std::vector<std::byte> record(there.begin(), there.begin() + header->BytesAvailable);
                if (auto geometry = geometry_from(volume, record)) return geometry;
            }
        }
    return std::nullopt;
}

}  // namespace dredger::ntfs

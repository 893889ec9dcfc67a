#include "filesystems/exfat/exfat.h"

#include <fmt/format.h>

#include "filesystems/exfat/entry_set.h"
#include "filesystems/exfat/walk.h"
#include "media/cached.h"
#include "media/content.h"

namespace dredger::exfat {
namespace {

constexpr std::size_t kBootSectorBytes = 512;
constexpr std::uint64_t kLargestUpcaseTable = 128 << 10;  // bytes, uncompressed

struct BootRegion {
    Geometry geometry;
    bool proven = false;
};

std::optional<BootRegion> region_at(const Medium& volume, std::uint64_t offset) {
    const auto sector = volume.bytes(offset, kBootSectorBytes);
    const auto geometry = sector ? parse_boot_sector(ByteView(*sector, offset), volume.size()) : std::nullopt;
    if (!geometry) return std::nullopt;
    const auto region = volume.bytes(offset, kBootRegionSectors * geometry->sector_size);
    return BootRegion{*geometry, region && checksum_agrees(ByteView(*region, offset), geometry->sector_size)};
}

// The boot region, or its copy right behind it.
std::optional<Geometry> find_geometry(const Medium& volume, VolumeFacts& facts) {
    const auto main = region_at(volume, 0);
    if (main && main->proven) return main->geometry;
    for (const std::uint64_t sector : {512U, 1024U, 2048U, 4096U}) {
        const auto backup = region_at(volume, kBootRegionSectors * sector);
        if (!backup || !backup->proven || backup->geometry.sector_size != sector) continue;
        facts.warnings.emplace_back("the boot region is damaged; its backup is used");
        facts.is_mountable = false;
        return backup->geometry;
    }
    if (!main) return std::nullopt;
    facts.is_mountable = false;
    facts.warnings.emplace_back(
        "the checksums of the boot region and its backup are wrong: what they say may be wrong");
    return main->geometry;
}

std::string guid_text(const std::uint8_t (&b)[16]) {
    return fmt::format(
        "{:02X}{:02X}{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}-{:02X}{:02X}{:02X}{:02X}{:02X}{:02X}", b[3],
        b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8], b[9], b[10], b[11], b[12], b[13], b[14], b[15]);
}

}  // namespace

Result<std::unique_ptr<FileSystem>> open(MediumPtr volume) {
    VolumeFacts facts;
    const auto geometry = find_geometry(*volume, facts);
    if (!geometry) return nullptr;
    return std::make_unique<ExFat>(std::move(volume), *geometry, std::move(facts));
}

ExFat::ExFat(MediumPtr volume, const Geometry& geometry, VolumeFacts facts)
    : volume_(std::move(volume)),
      geometry_(geometry),
      chains_(std::make_shared<Cached>(volume_), geometry_),
      space_(geometry.heap_offset, geometry.cluster_size, geometry.cluster_count) {
    facts_ = std::move(facts);
    facts_.filesystem = "exFAT";
    facts_.serial = fmt::format("{:04X}-{:04X}", geometry_.serial >> 16U, geometry_.serial & 0xFFFFU);
    facts_.cluster_size = geometry_.cluster_size;
    facts_.size = geometry_.size;
    if (geometry_.size > volume_->size())
        facts_.warnings.push_back(fmt::format("the volume should have {} bytes, {} can be read: it is cut short",
                                              geometry_.size, volume_->size()));
    if (geometry_.dirty)
        facts_.warnings.emplace_back("it was not unmounted cleanly: its last changes may not be in its records");
    read_root();
    facts_.used = space_.taken_bytes();
}

std::vector<std::byte> ExFat::content_of(std::uint32_t first_cluster, std::uint64_t length, bool& whole) const {
    const auto chain = chains_.follow(first_cluster, chains_.clusters_for(length));
    const Content content(volume_, chains_.extents(chain.runs, length, length));
    std::vector<std::byte> bytes(static_cast<std::size_t>(content.size()));
    std::vector<Extent> bad;
    whole = content.read(0, bytes, &bad).has_value() && bad.empty() && content.size() == length;
    return bytes;
}

// The root directory lists the volume's own structures beside the files.
void ExFat::read_root() {
    bool has_map = false;
    const auto chain = chains_.follow(geometry_.root_cluster, chains_.clusters_for(kLargestDirectory));
    const std::uint64_t size = chain.count * geometry_.cluster_size;
    const Content root(volume_, chains_.extents(chain.runs, size, size));
    for (std::uint64_t at = 0; at + kEntrySize <= size; at += kEntrySize) {
        Slot slot;
        std::vector<Extent> bad;
        if (!root.read(at, std::as_writable_bytes(std::span(slot.bytes)), &bad) || slot.type() == kEndOfDirectory)
            break;
        if (slot.type() == kAllocationBitmap) {
            const auto entry = slot.as<AllocationBitmapEntry>();
            if ((entry.BitmapFlags & 1U) == geometry_.active_fat)
                has_map = read_bitmap(entry.FirstCluster, entry.DataLength);
        } else if (slot.type() == kUpcaseTable) {
            const auto entry = slot.as<UpcaseTableEntry>();
            bool whole = false;
            const auto table =
                content_of(entry.FirstCluster, std::min(entry.DataLength.value(), kLargestUpcaseTable), whole);
            if (whole && table_checksum(ByteView(table)) == entry.TableChecksum)
                upcase_ = Upcase::parse(ByteView(table));
        } else if (slot.type() == kVolumeLabel) {
            const auto entry = slot.as<VolumeLabelEntry>();
            const std::size_t units = std::min<std::size_t>(entry.CharacterCount, 11);
            facts_.label = printable(utf16le_to_utf8(std::as_bytes(std::span(entry.VolumeLabel)).first(units * 2)));
        } else if (slot.type() == kVolumeGuid) {
            facts_.serial += ", GUID " + guid_text(slot.as<VolumeGuidEntry>().VolumeGuid);
        }
    }
    if (!has_map)
        facts_.warnings.emplace_back(
            "the map of used clusters is damaged: what is overwritten is told by the files' records alone");
}

// 7.1.5
bool ExFat::read_bitmap(std::uint32_t first_cluster, std::uint64_t length) {
    bool whole = false;
    const auto bits = content_of(first_cluster, std::min(length, divide_up(geometry_.cluster_count, 8)), whole);
    space_.take_bits(0, bits);
    return whole && bits.size() * 8 >= geometry_.cluster_count;
}

Result<void> ExFat::walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const {
    ExfatWalk(volume_, geometry_, space_, upcase_, options, sink, warnings).run();
    return {};
}

}  // namespace dredger::exfat

// VHDX: fixed, dynamic and differencing, with its log. Source: Microsoft, [MS-VHDX]. All numbers are little-endian.
#include <boost/endian/arithmetic.hpp>
#include <cstring>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/crc32c.h"
#include "base/text.h"
#include "media/images/image.h"
#include "media/images/translated.h"
#include "media/images/vhdx_log.h"

namespace dredger::images {
namespace {

using boost::endian::little_uint16_t, boost::endian::little_uint32_t, boost::endian::little_uint64_t;

struct Header {
    char signature[4];  // "head"
    little_uint32_t checksum;
    little_uint64_t sequence_number;
    std::byte file_write_guid[16];
    std::byte data_write_guid[16];
    std::byte log_guid[16];
    little_uint16_t log_version;
    little_uint16_t version;
    little_uint32_t log_length;
    little_uint64_t log_offset;
};

struct RegionTableHeader {
    char signature[4];  // "regi"
    little_uint32_t checksum;
    little_uint32_t entry_count;
    little_uint32_t reserved;
};

struct RegionTableEntry {
    std::byte guid[16];
    little_uint64_t file_offset;
    little_uint32_t length;
    little_uint32_t required;
};

struct MetadataTableHeader {
    char signature[8];  // "metadata"
    little_uint16_t reserved;
    little_uint16_t entry_count;
    std::byte reserved2[20];
};

struct MetadataTableEntry {
    std::byte item_id[16];
    little_uint32_t offset;  // from the start of the region
    little_uint32_t length;
    little_uint32_t flags;
    little_uint32_t reserved;
};

struct ParentLocatorEntry {
    little_uint32_t key_offset;
    little_uint32_t value_offset;
    little_uint16_t key_length;
    little_uint16_t value_length;
};

constexpr std::uint64_t kHeaders[] = {64 << 10, 128 << 10};
constexpr std::uint64_t kRegionTables[] = {192 << 10, 256 << 10};
constexpr std::size_t kHeaderBytes = 4096, kTableBytes = 64 << 10;
constexpr std::uint64_t kMiB = 1 << 20;

// GUIDs as text, their first three fields turned into the order of writing.
constexpr std::string_view kBat = "2dc27766-f623-4200-9d64-115e9bfd4a08";
constexpr std::string_view kMetadata = "8b7ca206-4790-4b9a-b8fe-575f050f886e";
constexpr std::string_view kFileParameters = "caa16737-fa36-4d43-b3b6-33f0aa44e76b";
constexpr std::string_view kVirtualDiskSize = "2fa54224-cd1b-4876-b211-5dbed83bf4b8";
constexpr std::string_view kLogicalSectorSize = "8141bf1d-a96f-4709-ba47-f233a8faab5f";
constexpr std::string_view kParentLocator = "a8d35f2d-b30b-454d-abf7-d3d84834ab0c";

enum BlockState : std::uint64_t {
    kNotPresent = 0,
    kUndefined = 1,
    kZero = 2,
    kUnmapped = 3,
    kFullyPresent = 6,
    kPartiallyPresent = 7,
};

std::string guid_text(std::span<const std::byte, 16> guid) {
    constexpr std::size_t kOrder[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    std::array<std::byte, 16> written{};
    for (std::size_t i = 0; i < 16; ++i) written[i] = guid[kOrder[i]];
    return uuid_text(written);
}

// Structures with a checksum at byte 4 that is computed as if it were zero.
bool checksum_fits(std::vector<std::byte> bytes, std::uint32_t expected) {
    std::fill_n(bytes.begin() + 4, 4, std::byte{0});
    return crc32c(bytes) == expected;
}

std::optional<Header> current_header(const FileMedium& file) {
    std::optional<Header> current;
    for (const std::uint64_t at : kHeaders) {
        const auto bytes = file.bytes(at, kHeaderBytes);
        if (!bytes || !ByteView(*bytes).has(0, "head")) continue;
        const auto header = ByteView(*bytes).as<Header>(0);
        if (!header || !checksum_fits(*bytes, header->checksum)) continue;
        if (!current || header->sequence_number > current->sequence_number) current = *header;
    }
    return current;
}

struct Region {
    std::uint64_t offset = 0;
    std::uint32_t length = 0;
};

std::map<std::string, Region> regions_of(const Medium& file) {
    std::map<std::string, Region> regions;
    for (const std::uint64_t at : kRegionTables) {
        const auto bytes = file.bytes(at, kTableBytes);
        if (!bytes || !ByteView(*bytes).has(0, "regi")) continue;
        const ByteView view(*bytes);
        const auto header = view.as<RegionTableHeader>(0);
        if (!header || !checksum_fits(*bytes, header->checksum)) continue;
        for (std::size_t n = 0; n < header->entry_count; ++n) {
            const auto entry = view.as<RegionTableEntry>(sizeof(RegionTableHeader) + n * sizeof(RegionTableEntry));
            if (!entry) break;
            regions[guid_text(std::span<const std::byte, 16>(entry->guid))] = {entry->file_offset, entry->length};
        }
        break;
    }
    return regions;
}

// Items of the metadata region by their GUID.
Result<std::map<std::string, std::vector<std::byte>>> metadata_of(const Medium& file, const Region& region) {
    constexpr std::size_t kLongestItem = 64 << 10;
    DREDGER_TRY(const auto bytes, file.bytes(region.offset, std::min<std::size_t>(kTableBytes, region.length)));
    const ByteView view(bytes);
    if (!view.has(0, "metadata")) return fail(ErrorKind::not_understood, "its metadata are damaged", file.name());
    DREDGER_TRY(const auto header, view.as<MetadataTableHeader>(0));
    std::map<std::string, std::vector<std::byte>> items;
    for (std::size_t n = 0; n < header.entry_count; ++n) {
        DREDGER_TRY(const auto entry, view.as<MetadataTableEntry>(sizeof header + n * sizeof(MetadataTableEntry)));
        if (entry.length > kLongestItem) continue;
        const auto item = file.bytes(region.offset + entry.offset, entry.length);
        if (item) items[guid_text(std::span<const std::byte, 16>(entry.item_id))] = *item;
    }
    return items;
}

// Key and value of each entry of a parent locator.
std::map<std::string, std::string> locator_of(const std::vector<std::byte>& item) {
    constexpr std::size_t kEntries = 20;  // bytes in front: type, reserved, count
    std::map<std::string, std::string> pairs;
    const ByteView view(item);
    const std::uint16_t count = view.u16le(18).value_or(0);
    for (std::size_t n = 0; n < count; ++n) {
        const auto entry = view.as<ParentLocatorEntry>(kEntries + n * sizeof(ParentLocatorEntry));
        if (!entry) break;
        const auto key = view.slice(entry->key_offset, entry->key_length);
        const auto value = view.slice(entry->value_offset, entry->value_length);
        if (key && value) pairs[utf16le_to_utf8(key->bytes())] = utf16le_to_utf8(value->bytes());
    }
    return pairs;
}

struct Shape {
    std::uint64_t size = 0;      // bytes of the disk
    std::uint64_t block = 0;     // bytes
    std::uint32_t sector = 512;  // bytes; logical
    bool has_parent = false;

    // How many blocks one block of sector bits speaks for.
    std::uint64_t chunk_ratio() const { return (std::uint64_t{1} << 23U) * sector / block; }
};

class Vhdx final : public Translated {
  public:
    Vhdx(const MediumPtr& file, const Shape& shape, const Region& bat, MediumPtr parent)
        : Translated(file->name(), shape.size, shape.block),
          file_(file),
          shape_(shape),
          parent_(std::move(parent)),
          bat_(file, bat.offset, bat.length / 8, 8, NumberTable::Endian::little) {}

    std::uint32_t sector_size() const override { return shape_.sector; }

  protected:
    Result<Place> place_of(std::uint64_t offset) const override {
        const std::uint64_t block = offset / shape_.block;
        const std::uint64_t within = offset % shape_.block;
        const std::uint64_t rest = std::min(shape_.block - within, size() - offset);
        const std::uint64_t ratio = shape_.chunk_ratio();
        DREDGER_TRY(const std::uint64_t entry, bat_.at(block + block / ratio));
        const std::uint64_t start = entry & ~(kMiB - 1);
        switch (entry & 7U) {
            case kFullyPresent: return Place{rest, file_, start + within};
            case kPartiallyPresent: return partly(offset, block, start, rest);
            case kNotPresent: return from_parent(parent_, offset, rest);
            default: return Place::zeros(rest);
        }
    }

  private:
    // One bit a sector, the lowest first: whether it is here or in the parent.
    Result<Place> partly(std::uint64_t offset, std::uint64_t block, std::uint64_t start, std::uint64_t rest) const {
        const std::uint64_t ratio = shape_.chunk_ratio();
        DREDGER_TRY(const std::uint64_t entry, bat_.at((block / ratio + 1) * (ratio + 1) - 1));
        const std::uint64_t sectors = shape_.block / shape_.sector;
        const std::uint64_t bits_at = (entry & ~(kMiB - 1)) + block % ratio * sectors / 8;
        DREDGER_TRY(const auto bits, bitmaps_.get(block, [&] { return file_->bytes(bits_at, sectors / 8); }));
        const auto is_here = [&](std::uint64_t sector) {
            return ((static_cast<unsigned>((*bits)[sector / 8]) >> sector % 8) & 1U) != 0;
        };
        const std::uint64_t within = offset % shape_.block;
        const std::uint64_t first = within / shape_.sector;
        const std::uint64_t length = std::min(rest, end_of_run(first, sectors, is_here) * shape_.sector - within);
        if (is_here(first)) return Place{length, file_, start + within};
        return from_parent(parent_, offset, length);
    }

    MediumPtr file_;
    Shape shape_;
    MediumPtr parent_;
    NumberTable bat_;
    Recent<std::vector<std::byte>> bitmaps_{64};
};

// Where the last block ends, in the file.
std::uint64_t end_of_blocks(const MediumPtr& file, const Shape& shape, const Region& bat) {
    const NumberTable table(file, bat.offset, bat.length / 8, 8, NumberTable::Endian::little);
    const std::uint64_t blocks = divide_up(shape.size, shape.block), ratio = shape.chunk_ratio();
    std::uint64_t end = 0;
    for (std::uint64_t block = 0; block < blocks; ++block) {
        const auto entry = table.at(block + block / ratio);
        if (!entry) break;
        const bool is_here = (*entry & 7U) == kFullyPresent || (*entry & 7U) == kPartiallyPresent;
        if (is_here) end = std::max(end, checked_add(*entry & ~(kMiB - 1), shape.block).value_or(0));
    }
    return end;
}

template <class Number>
std::uint64_t number_in(const std::vector<std::byte>& item) {
    const auto value = ByteView(item).as<Number>(0);
    return value ? static_cast<std::uint64_t>(value->value()) : 0;
}

}  // namespace

Result<MediumPtr> open_vhdx(const FilePtr& file, Opening& opening) {
    if (file->size() < kMiB) return nullptr;
    DREDGER_TRY(const auto identifier, file->bytes(0, 8));
    if (!ByteView(identifier).has(0, "vhdxfile")) return nullptr;
    const auto header = current_header(*file);
    if (!header) return fail(ErrorKind::not_understood, "both headers of the VHDX are damaged", file->name());

    auto patched = std::make_shared<Patched>(file);
    const std::span<const std::byte, 16> log_guid(header->log_guid);
    if (!ByteView(log_guid).is_uniform() || log_guid[0] != std::byte{0}) {
        DREDGER_TRY(const std::size_t entries,
                    replay_vhdx_log(*file, header->log_offset, header->log_length, log_guid, *patched));
        if (entries > 0)
            opening.note(fmt::format("the VHDX was not closed: its log was replayed in memory ({} {})", entries,
                                     entries == 1 ? "entry" : "entries"));
    }
    const MediumPtr whole = patched->empty() ? MediumPtr(file) : MediumPtr(patched);

    const auto regions = regions_of(*whole);
    const auto bat = regions.find(std::string(kBat)), metadata = regions.find(std::string(kMetadata));
    if (bat == regions.end() || metadata == regions.end())
        return fail(ErrorKind::not_understood, "the region tables of the VHDX are damaged", file->name());
    DREDGER_TRY(auto items, metadata_of(*whole, metadata->second));
    Shape shape;
    shape.block = number_in<little_uint32_t>(items[std::string(kFileParameters)]);
    shape.has_parent = items[std::string(kFileParameters)].size() >= 8 &&
                       (static_cast<unsigned>(items[std::string(kFileParameters)][4]) & 2U) != 0;
    shape.size = number_in<little_uint64_t>(items[std::string(kVirtualDiskSize)]);
    shape.sector = static_cast<std::uint32_t>(number_in<little_uint32_t>(items[std::string(kLogicalSectorSize)]));
    constexpr std::uint64_t kLargestBlock = 256 * kMiB;
    if (shape.block < kMiB || shape.block > kLargestBlock || (shape.block & (shape.block - 1)) != 0 ||
        (shape.sector != 512 && shape.sector != 4096))
        return fail(ErrorKind::not_understood, "the metadata of the VHDX contradict each other", file->name());

    opening.note_if_cut(*file, end_of_blocks(whole, shape, bat->second));
    MediumPtr parent;
    if (shape.has_parent) {
        auto locator = locator_of(items[std::string(kParentLocator)]);
        const std::string linkage = folded(locator["parent_linkage"]), linkage2 = folded(locator["parent_linkage2"]);
        DREDGER_TRY(parent,
                    opening.open_parent(
                        *file, {with_slashes(locator["relative_path"]), with_slashes(locator["absolute_win32_path"])},
                        [&](const FileMedium& other) {
                            const auto its = current_header(other);
                            if (!its) return false;
                            const std::string guid =
                                fmt::format("{{{}}}", guid_text(std::span<const std::byte, 16>(its->data_write_guid)));
                            return guid == linkage || guid == linkage2;
                        }));
    }
    return std::make_shared<Vhdx>(whole, shape, bat->second, parent);
}

}  // namespace dredger::images

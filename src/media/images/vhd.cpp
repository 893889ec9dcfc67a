// VHD: fixed, dynamic and differencing. Source: Microsoft, "Virtual Hard Disk Image Format Specification", version 1.0.
// All numbers are big-endian.
#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/text.h"
#include "media/images/image.h"
#include "media/images/translated.h"
#include "media/window.h"

namespace dredger::images {
namespace {

using boost::endian::big_uint16_t, boost::endian::big_uint32_t, boost::endian::big_uint64_t;

struct Footer {
    char cookie[8];  // "conectix"
    big_uint32_t features;
    big_uint32_t file_format_version;
    big_uint64_t data_offset;  // of the dynamic header
    big_uint32_t time_stamp;
    char creator_application[4];
    big_uint32_t creator_version;
    big_uint32_t creator_host_os;
    big_uint64_t original_size;
    big_uint64_t current_size;  // bytes
    big_uint16_t cylinders;
    std::uint8_t heads;
    std::uint8_t sectors_per_track;
    big_uint32_t disk_type;
    big_uint32_t checksum;
    std::byte unique_id[16];
    std::uint8_t saved_state;
    std::byte reserved[427];
};
static_assert(sizeof(Footer) == 512);

struct ParentLocator {
    char platform_code[4];
    big_uint32_t platform_data_space;
    big_uint32_t platform_data_length;
    big_uint32_t reserved;
    big_uint64_t platform_data_offset;
};

struct DynamicHeader {
    char cookie[8];  // "cxsparse"
    big_uint64_t data_offset;
    big_uint64_t table_offset;
    big_uint32_t header_version;
    big_uint32_t max_table_entries;
    big_uint32_t block_size;  // bytes
    big_uint32_t checksum;
    std::byte parent_unique_id[16];
    big_uint32_t parent_time_stamp;
    big_uint32_t reserved1;
    std::byte parent_unicode_name[512];  // UTF-16, big-endian
    ParentLocator parent_locators[8];
    std::byte reserved2[256];
};
static_assert(sizeof(DynamicHeader) == 1024);

enum Type : std::uint32_t { kFixed = 2, kDynamic = 3, kDifferencing = 4 };
constexpr std::uint32_t kUnused = 0xFFFFFFFF;

// The ones' complement of the sum of all bytes but those of the checksum itself.
bool checksum_fits(std::span<const std::byte> bytes, std::size_t at, std::uint32_t expected) {
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i)
        if (i < at || i >= at + 4) sum += static_cast<std::uint8_t>(bytes[i]);
    return ~sum == expected;
}

std::optional<Footer> footer_at(const FileMedium& file, std::uint64_t offset) {
    const auto bytes = file.bytes(offset, sizeof(Footer));
    if (!bytes || !ByteView(*bytes).has(0, "conectix")) return std::nullopt;
    const auto footer = ByteView(*bytes).as<Footer>(0);
    if (!footer || !checksum_fits(*bytes, offsetof(Footer, checksum), footer->checksum)) return std::nullopt;
    return *footer;
}

class DynamicVhd final : public Translated {
  public:
    DynamicVhd(const FilePtr& file, std::uint64_t size, const DynamicHeader& header, bool has_parent, MediumPtr parent)
        : Translated(file->name(), size, header.block_size),
          file_(file),
          block_(header.block_size),
          bitmap_((block_ / 512 / 8 + 511) / 512 * 512),
          has_parent_(has_parent),
          parent_(std::move(parent)),
          table_(file, header.table_offset, header.max_table_entries, 4, NumberTable::Endian::big) {}

  protected:
    Result<Place> place_of(std::uint64_t offset) const override {
        const std::uint64_t within = offset % block_;
        const std::uint64_t rest = std::min(block_ - within, size() - offset);
        DREDGER_TRY(const std::uint64_t entry, table_.at(offset / block_));
        if (entry == kUnused) return from_parent(parent_, offset, rest);
        const std::uint64_t start = entry * 512;
        if (!has_parent_) return Place{rest, file_, start + bitmap_ + within};
        // One bit a sector, the highest first: whether it is here or in the parent.
        DREDGER_TRY(const auto bits, bitmaps_.get(start, [&] { return file_->bytes(start, bitmap_); }));
        const auto is_here = [&](std::uint64_t sector) {
            return (static_cast<unsigned>((*bits)[sector / 8]) & (0x80U >> sector % 8)) != 0;
        };
        const std::uint64_t first = within / 512;
        const std::uint64_t length = std::min(rest, end_of_run(first, block_ / 512, is_here) * 512 - within);
        if (is_here(first)) return Place{length, file_, start + bitmap_ + within};
        return from_parent(parent_, offset, length);
    }

  private:
    FilePtr file_;
    std::uint64_t block_;
    std::uint64_t bitmap_;  // bytes of one, in front of each block
    bool has_parent_;
    MediumPtr parent_;
    NumberTable table_;
    Recent<std::vector<std::byte>> bitmaps_{256};
};

std::vector<std::string> parent_names(const FileMedium& file, const DynamicHeader& header) {
    std::vector<std::string> names;
    for (const ParentLocator& locator : header.parent_locators) {
        const std::string_view code(locator.platform_code, 4);
        if (code != "W2ru" && code != "W2ku" && code != "MacX") continue;
        const auto text =
            file.bytes(locator.platform_data_offset, std::min<std::size_t>(locator.platform_data_length, 65536));
        if (!text) continue;
        names.push_back(with_slashes(code == "MacX"
                                         ? std::string(reinterpret_cast<const char*>(text->data()), text->size())
                                         : utf16le_to_utf8(*text)));
    }
    std::u16string name;
    for (std::size_t i = 0; i + 1 < sizeof header.parent_unicode_name; i += 2) {
        const auto unit = static_cast<char16_t>(static_cast<unsigned>(header.parent_unicode_name[i]) << 8U |
                                                static_cast<unsigned>(header.parent_unicode_name[i + 1]));
        if (unit == 0) break;
        name += unit;
    }
    names.push_back(with_slashes(utf16_to_utf8(name)));
    return names;
}

}  // namespace

Result<MediumPtr> open_vhd(const FilePtr& file, Opening& opening) {
    if (file->size() < sizeof(Footer)) return nullptr;
    auto footer = footer_at(*file, file->size() - sizeof(Footer));
    if (!footer) {
        // Dynamic disks keep a copy at the start, for when the end is lost.
        footer = footer_at(*file, 0);
        if (!footer) return nullptr;
        opening.note("the end of the VHD is damaged or missing; the copy at its start is used");
    }
    const std::uint64_t size = footer->current_size;
    if (footer->disk_type == kFixed)
        return std::make_shared<Window>(file, 0, std::min(size, file->size() - sizeof(Footer)));
    if (footer->disk_type != kDynamic && footer->disk_type != kDifferencing)
        return fail(ErrorKind::not_understood, fmt::format("VHD disk type {} is not known", footer->disk_type.value()),
                    file->name());
    DREDGER_TRY(const auto bytes, file->bytes(footer->data_offset, sizeof(DynamicHeader)));
    DREDGER_TRY(const DynamicHeader header, ByteView(bytes).as<DynamicHeader>(0));
    if (!ByteView(bytes).has(0, "cxsparse") ||
        !checksum_fits(bytes, offsetof(DynamicHeader, checksum), header.checksum) || header.block_size < 512 ||
        header.block_size % 512 != 0 || divide_up(size, header.block_size) > header.max_table_entries)
        return fail(ErrorKind::not_understood, "the header of the dynamic VHD is damaged", file->name());
    const bool has_parent = footer->disk_type == kDifferencing;
    MediumPtr parent;
    if (has_parent) {
        DREDGER_TRY(parent, opening.open_parent(*file, parent_names(*file, header), [&](const FileMedium& other) {
            const auto its =
                other.size() < sizeof(Footer) ? std::nullopt : footer_at(other, other.size() - sizeof(Footer));
            return its && std::memcmp(its->unique_id, header.parent_unique_id, sizeof its->unique_id) == 0;
        }));
    }
    return std::make_shared<DynamicVhd>(file, size, header, has_parent, parent);
}

}  // namespace dredger::images

// VMDK: sparse and flat extents, in one file or several, stream-optimised ones, and disks that build on another one.
// Source: VMware, "Virtual Disk Format 5.0". All numbers are little-endian.
#include <boost/endian/arithmetic.hpp>
#include <charconv>
#include <fmt/format.h>
#include <sstream>
#include <zlib.h>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/text.h"
#include "media/images/image.h"
#include "media/images/runs.h"
#include "media/window.h"

namespace dredger::images {
namespace {

using boost::endian::little_uint16_t, boost::endian::little_uint32_t, boost::endian::little_uint64_t;

struct SparseExtentHeader {
    char magic[4];  // "KDMV"
    little_uint32_t version;
    little_uint32_t flags;
    little_uint64_t capacity;    // sectors
    little_uint64_t grain_size;  // sectors
    little_uint64_t descriptor_offset;
    little_uint64_t descriptor_size;
    little_uint32_t num_gtes_per_gt;
    little_uint64_t rgd_offset;
    little_uint64_t gd_offset;
    little_uint64_t over_head;
    std::uint8_t unclean_shutdown;
    char end_of_line[4];
    little_uint16_t compress_algorithm;
};

enum Flags : std::uint32_t { kZeroedGrains = 1U << 2U, kCompressed = 1U << 16U };

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kAtEnd = 0xFFFFFFFFFFFFFFFF;  // gd_offset: told by the footer
constexpr std::size_t kLongestDescriptor = 1 << 20;

struct ExtentLine {
    std::uint64_t sectors = 0;
    std::string type;  // SPARSE, FLAT, ZERO ...
    std::string file;
    std::uint64_t offset = 0;  // sectors
};

struct Descriptor {
    std::string create_type;
    std::string cid;
    std::string parent_cid;
    std::string parent;
    std::vector<ExtentLine> extents;

    bool has_parent() const { return !parent_cid.empty() && parent_cid != "ffffffff"; }
};

std::string unquoted(std::string_view text) {
    const auto first = text.find_first_not_of(" \t\r\"");
    if (first == text.npos) return {};
    return std::string(text.substr(first, text.find_last_not_of(" \t\r\"") - first + 1));
}

Descriptor parse(const std::string& text) {
    Descriptor descriptor;
    std::istringstream lines(text.substr(0, text.find('\0')));
    for (std::string line; std::getline(lines, line);) {
        if (line.starts_with("RW ") || line.starts_with("RDONLY ") || line.starts_with("NOACCESS ")) {
            ExtentLine extent;
            std::istringstream words(line);
            std::string access;
            words >> access >> extent.sectors >> extent.type;
            const auto open = line.find('"'), close = line.rfind('"');
            if (open != line.npos && close > open) {
                extent.file = line.substr(open + 1, close - open - 1);
                std::istringstream(line.substr(close + 1)) >> extent.offset;
            }
            descriptor.extents.push_back(std::move(extent));
            continue;
        }
        const auto equals = line.find('=');
        if (equals == line.npos) continue;
        const std::string key = unquoted(line.substr(0, equals)), value = unquoted(line.substr(equals + 1));
        if (key == "createType") descriptor.create_type = value;
        if (key == "CID") descriptor.cid = folded(value);
        if (key == "parentCID") descriptor.parent_cid = folded(value);
        if (key == "parentFileNameHint") descriptor.parent = value;
    }
    return descriptor;
}

class SparseExtent final : public Translated {
  public:
    // `start`: the byte of the disk at which this extent begins.
    SparseExtent(const FilePtr& file, const SparseExtentHeader& header, std::uint64_t start, MediumPtr parent)
        : Translated(file->name(), header.capacity * kSector, header.grain_size * kSector),
          file_(file),
          header_(header),
          start_(start),
          parent_(std::move(parent)),
          directory_(file, header.gd_offset * kSector,
                     divide_up(divide_up(header.capacity, header.grain_size), header.num_gtes_per_gt), 4,
                     NumberTable::Endian::little) {}

  protected:
    Result<Place> place_of(std::uint64_t offset) const override {
        const std::uint64_t grain_bytes = header_.grain_size * kSector;
        const std::uint64_t grain = offset / grain_bytes, within = offset % grain_bytes;
        const std::uint64_t rest = std::min(grain_bytes - within, size() - offset);
        const std::uint32_t per_table = header_.num_gtes_per_gt;
        DREDGER_TRY(const std::uint64_t table_at, directory_.at(grain / per_table));
        if (table_at == 0) {
            const std::uint64_t of_table = (per_table - grain % per_table) * grain_bytes - within;
            return from_parent(parent_, start_ + offset, std::min(of_table, size() - offset));
        }
        DREDGER_TRY(const auto table, tables_.get(table_at, [&] {
            return file_->bytes(table_at * kSector, std::size_t{per_table} * 4);
        }));
        DREDGER_TRY(const std::uint32_t entry, ByteView(*table).u32le(grain % per_table * 4));
        if (entry == 0) {
            const auto is_here = [&](std::uint64_t n) { return ByteView(*table).u32le(n * 4).value_or(0) != 0; };
            const std::uint64_t first = grain % per_table;
            const std::uint64_t of_run = (end_of_run(first, per_table, is_here) - first) * grain_bytes - within;
            return from_parent(parent_, start_ + offset, std::min(of_run, size() - offset));
        }
        if (entry == 1 && (header_.flags & kZeroedGrains) != 0) return Place::zeros(rest);
        const std::uint64_t at = std::uint64_t{entry} * kSector;
        if ((header_.flags & kCompressed) == 0) return Place{rest, file_, at + within};
        Place place;
        DREDGER_TRY(place.unpacked, grains_.get(grain, [&] { return unpack(at, grain_bytes); }));
        place.offset = within;
        place.length = rest;
        return place;
    }

  private:
    // Behind a marker: the sector that it stands for, its packed length, the packed bytes (RFC 1950).
    Result<std::vector<std::byte>> unpack(std::uint64_t at, std::uint64_t grain_bytes) const {
        constexpr std::size_t kMarker = 12;
        DREDGER_TRY(const auto marker, file_->bytes(at, kMarker));
        DREDGER_TRY(const std::uint32_t length, ByteView(marker).u32le(8));
        if (length > 2 * grain_bytes + 64)
            return fail(ErrorKind::not_understood, "a packed grain can't be as long as it says", name());
        DREDGER_TRY(const auto packed, file_->bytes(at + kMarker, length));
        std::vector<std::byte> out(static_cast<std::size_t>(grain_bytes));
        uLongf got = out.size();
        const int done = uncompress(reinterpret_cast<Bytef*>(out.data()), &got,
                                    reinterpret_cast<const Bytef*>(packed.data()), packed.size());
        // The last grain may be cut where the disk ends.
        if (done != Z_OK) return fail(ErrorKind::not_understood, "a packed grain is damaged", name());
        return out;
    }

    FilePtr file_;
    SparseExtentHeader header_;
    std::uint64_t start_;
    MediumPtr parent_;
    NumberTable directory_;
    Recent<std::vector<std::byte>> tables_{256};
    Recent<std::vector<std::byte>> grains_{64};
};

Result<std::optional<SparseExtentHeader>> header_of(const FileMedium& file) {
    if (file.size() < kSector) return std::nullopt;
    DREDGER_TRY(const auto bytes, file.bytes(0, kSector));
    if (!ByteView(bytes).has(0, "KDMV")) return std::nullopt;
    DREDGER_TRY(SparseExtentHeader header, ByteView(bytes).as<SparseExtentHeader>(0));
    if (header.gd_offset == kAtEnd) {
        // A stream-optimised one was written in one go: its footer, in front of the end marker, knows.
        if (file.size() < 3 * kSector)
            return fail(ErrorKind::not_understood, "the end of the VMDK is missing", file.name());
        DREDGER_TRY(const auto footer, file.bytes(file.size() - 2 * kSector, kSector));
        if (!ByteView(footer).has(0, "KDMV"))
            return fail(ErrorKind::not_understood, "the end of the VMDK is missing", file.name(),
                        "the file was cut short");
        DREDGER_TRY(header, ByteView(footer).as<SparseExtentHeader>(0));
    }
    constexpr std::uint64_t kMaxSectors = std::uint64_t{1} << 50;
    if (header.grain_size == 0 || header.grain_size > 65536 || header.num_gtes_per_gt == 0 ||
        header.num_gtes_per_gt > 65536 || header.capacity > kMaxSectors || header.gd_offset > kMaxSectors)
        return fail(ErrorKind::not_understood, "the header of the VMDK is damaged", file.name());
    return header;
}

Result<std::string> descriptor_text(const FileMedium& file, const std::optional<SparseExtentHeader>& header) {
    const std::uint64_t offset = header ? header->descriptor_offset * kSector : 0;
    const std::uint64_t length = header ? header->descriptor_size * kSector : file.size();
    if (length > kLongestDescriptor)
        return fail(ErrorKind::not_understood, "the descriptor of the VMDK is damaged", file.name());
    DREDGER_TRY(const auto bytes, file.bytes(offset, static_cast<std::size_t>(length)));
    return std::string(reinterpret_cast<const char*>(bytes.data()), bytes.size());
}

// The descriptor of a VMDK: in a text file of its own, or within its only extent. None where it is neither.
Result<std::optional<Descriptor>> descriptor_of(const FileMedium& file) {
    DREDGER_TRY(const auto header, header_of(file));
    if (header && header->descriptor_size == 0) return Descriptor{};  // one extent of several: the text is elsewhere
    if (!header) {
        constexpr std::string_view kFirstLine = "# Disk DescriptorFile";
        if (file.size() < kFirstLine.size() || file.size() > kLongestDescriptor) return std::nullopt;
        DREDGER_TRY(const auto start, file.bytes(0, kFirstLine.size()));
        if (folded(std::string_view(reinterpret_cast<const char*>(start.data()), start.size())) != folded(kFirstLine))
            return std::nullopt;
    }
    DREDGER_TRY(const std::string text, descriptor_text(file, header));
    return parse(text);
}

Result<Run> open_extent(const FilePtr& file, const ExtentLine& line, std::uint64_t start, const MediumPtr& parent,
                        Opening& opening) {
    const auto length = checked_mul(line.sectors, kSector);
    if (!length) return fail(ErrorKind::not_understood, "the descriptor of the VMDK is damaged", file->name());
    if (line.type == "ZERO") return Run{start, *length, nullptr, 0};
    // A single sparse file names itself.
    const bool is_itself = line.type == "SPARSE" && file->size() > kLongestDescriptor &&
                           std::filesystem::path(line.file).filename() == file->path().filename();
    FilePtr part = file;
    if (!is_itself) {
        DREDGER_TRY(part, opening.open_part(*file, line.file, "a part of the disk"));
    }
    if (line.type == "FLAT" || line.type == "VMFS") {
        const std::uint64_t offset = checked_mul(line.offset, kSector).value_or(part->size());
        return Run{start, *length, part, offset};
    }
    if (line.type != "SPARSE")
        return fail(ErrorKind::not_understood, fmt::format("a VMDK extent of the type {} is not known", line.type),
                    file->name(), "copy the disk into a sparse or flat one");
    DREDGER_TRY(const auto header, header_of(*part));
    if (!header) return fail(ErrorKind::not_understood, "this is no part of a VMDK", part->name());
    return Run{start, *length, std::make_shared<SparseExtent>(part, *header, start, parent), 0};
}

}  // namespace

Result<MediumPtr> open_vmdk(const FilePtr& file, Opening& opening) {
    DREDGER_TRY(const auto header, header_of(*file));
    DREDGER_TRY(const auto found, descriptor_of(*file));
    if (!found) return nullptr;
    const Descriptor& descriptor = *found;
    if (header && descriptor.create_type.empty() && descriptor.extents.empty())
        return fail(ErrorKind::usage, "this is one part of a VMDK, not the whole", file->name(),
                    "name the small text file beside it that ends in .vmdk");
    MediumPtr parent;
    if (descriptor.has_parent()) {
        DREDGER_TRY(parent, opening.open_parent(*file, {descriptor.parent}, [&](const FileMedium& other) {
            const auto its = descriptor_of(other);
            return its && *its && (*its)->cid == descriptor.parent_cid;
        }));
    }
    if (header) return std::make_shared<SparseExtent>(file, *header, 0, parent);
    std::vector<Run> runs;
    std::uint64_t start = 0;
    for (const ExtentLine& line : descriptor.extents) {
        DREDGER_TRY(runs.emplace_back(), open_extent(file, line, start, parent, opening));
        start += runs.back().length;
    }
    if (runs.empty()) return fail(ErrorKind::not_understood, "the descriptor of the VMDK names no parts", file->name());
    return std::make_shared<Runs>(file->name(), std::move(runs));
}

}  // namespace dredger::images

// QCOW2, versions 2 and 3. Source: the QEMU project, "Qcow2 Image File Format" (docs/interop/qcow2.txt). All numbers
// are big-endian.
#include <algorithm>
#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/stream_decoder.h"
#include "media/images/image.h"
#include "media/images/translated.h"

namespace dredger::images {
namespace {

using boost::endian::big_uint16_t, boost::endian::big_uint32_t, boost::endian::big_uint64_t;

struct Header {
    char magic[4];  // "QFI\xFB"
    big_uint32_t version;
    big_uint64_t backing_file_offset;
    big_uint32_t backing_file_size;
    big_uint32_t cluster_bits;
    big_uint64_t size;  // bytes of the disk
    big_uint32_t crypt_method;
    big_uint32_t l1_size;  // entries
    big_uint64_t l1_table_offset;
    big_uint64_t refcount_table_offset;
    big_uint32_t refcount_table_clusters;
    big_uint32_t nb_snapshots;
    big_uint64_t snapshots_offset;
};

// From version 3 on, behind the header.
struct HeaderV3 {
    big_uint64_t incompatible_features;
    big_uint64_t compatible_features;
    big_uint64_t autoclear_features;
    big_uint32_t refcount_order;
    big_uint32_t header_length;
};

enum Incompatible : std::uint64_t {
    kDirty = 1,
    kCorrupt = 2,
    kExternalData = 4,
    kCompressionType = 8,
    kExtendedL2 = 16,
    kAllKnown = 31,
};

struct SnapshotHeader {
    big_uint64_t l1_table_offset;
    big_uint32_t l1_size;
    big_uint16_t id_str_size;
    big_uint16_t name_size;
    big_uint32_t date_sec;
    big_uint32_t date_nsec;
    big_uint64_t vm_clock_nsec;
    big_uint32_t vm_state_size;
    big_uint32_t extra_data_size;
};

constexpr std::uint64_t kOffsetMask = 0x00ff'ffff'ffff'fe00;  // bits 9 to 55
constexpr std::uint64_t kCompressed = std::uint64_t{1} << 62;
constexpr std::uint64_t kAllZeros = 1;
constexpr unsigned kSubclusters = 32;  // of a cluster, with extended L2 entries
constexpr std::uint32_t kMaxSnapshots = 65536;
constexpr std::uint32_t kMaxL1 = 32 << 20 >> 3;  // entries

enum class Compression { deflate = 0, zstd = 1 };

struct Shape {
    unsigned cluster_bits = 16;
    bool extended_l2 = false;
    Compression compression = Compression::deflate;
    std::uint64_t size = 0;
    std::uint64_t l1_offset = 0;
    std::uint32_t l1_size = 0;
    MediumPtr data;     // that holds the clusters
    MediumPtr backing;  // null: none

    std::uint64_t cluster() const { return std::uint64_t{1} << cluster_bits; }
    unsigned entry_bytes() const { return extended_l2 ? 16 : 8; }
    std::uint64_t entries_in_l2() const { return cluster() / entry_bytes(); }
};

Result<std::vector<std::byte>> unpack(Compression compression, std::span<const std::byte> packed, std::size_t size) {
    std::vector<std::byte> out(size);
    const Packing packing = compression == Compression::zstd ? Packing::zstd : Packing::deflate;
    const std::size_t got = StreamDecoder::decode_all(packing, packed, out);
    if (got != size) return fail(ErrorKind::not_understood, "a packed cluster is damaged");
    return out;
}

class Qcow2 final : public Translated {
  public:
    Qcow2(const FilePtr& file, Shape shape)
        : Translated(file->name(), shape.size, shape.cluster()),
          file_(file),
          shape_(std::move(shape)),
          l1_(file, shape_.l1_offset, shape_.l1_size, 8, NumberTable::Endian::big) {}

  protected:
    Result<Place> place_of(std::uint64_t offset) const override {
        const std::uint64_t within = offset & (shape_.cluster() - 1);
        const std::uint64_t cluster = offset >> shape_.cluster_bits;
        const std::uint64_t rest = std::min(shape_.cluster() - within, shape_.size - offset);
        DREDGER_TRY(const std::uint64_t l1, l1_.at(cluster / shape_.entries_in_l2()));
        if ((l1 & kOffsetMask) == 0) {
            const std::uint64_t in_table = shape_.entries_in_l2() - cluster % shape_.entries_in_l2();
            const std::uint64_t of_table = (in_table << shape_.cluster_bits) - within;
            return from_parent(shape_.backing, offset, std::min(of_table, shape_.size - offset));
        }
        DREDGER_TRY(const auto l2, l2_table(l1 & kOffsetMask));
        const std::size_t at = (cluster % shape_.entries_in_l2()) * shape_.entry_bytes();
        const ByteView view(*l2);
        DREDGER_TRY(const big_uint64_t entry, view.as<big_uint64_t>(at));
        if ((entry & kCompressed) != 0) return packed(cluster, entry, within, rest);
        const std::uint64_t host = entry & kOffsetMask;
        if (!shape_.extended_l2) {
            if ((entry & kAllZeros) != 0) return Place::zeros(rest);
            if (host == 0 && !(shape_.data != file_ && (entry >> 63U) != 0)) {
                const auto is_here = [&](std::uint64_t n) {
                    return view.as<big_uint64_t>(n * sizeof(big_uint64_t)).value_or(big_uint64_t(1)) != 0;
                };
                const std::uint64_t first = cluster % shape_.entries_in_l2();
                const std::uint64_t run = entry != 0 ? 1 : end_of_run(first, shape_.entries_in_l2(), is_here) - first;
                const std::uint64_t of_run = (run << shape_.cluster_bits) - within;
                return from_parent(shape_.backing, offset, std::min(of_run, shape_.size - offset));
            }
            return Place{rest, shape_.data, host + within};
        }
        DREDGER_TRY(const big_uint64_t bitmap, view.as<big_uint64_t>(at + 8));
        const std::uint64_t piece = shape_.cluster() / kSubclusters;
        const std::uint64_t number = within / piece;
        const std::uint64_t length = std::min(rest, piece - within % piece);
        if (((bitmap >> (32 + number)) & 1U) != 0) return Place::zeros(length);
        if (((bitmap >> number) & 1U) == 0) return from_parent(shape_.backing, offset, length);
        return Place{length, shape_.data, host + within};
    }

  private:
    Result<std::shared_ptr<const std::vector<std::byte>>> l2_table(std::uint64_t offset) const {
        return l2_tables_.get(offset, [&] { return file_->bytes(offset, shape_.cluster()); });
    }

    Result<Place> packed(std::uint64_t cluster, std::uint64_t entry, std::uint64_t within, std::uint64_t rest) const {
        const unsigned offset_bits = 62 - (shape_.cluster_bits - 8);
        const std::uint64_t host = entry & ((std::uint64_t{1} << offset_bits) - 1);
        const std::uint64_t sectors = ((entry & (kCompressed - 1)) >> offset_bits) + 1;
        if (host >= file_->size())
            return fail(ErrorKind::not_understood, "a packed cluster lies past the end of the file", name());
        const std::uint64_t length = std::min(sectors * 512 - host % 512, file_->size() - host);
        Place place;
        DREDGER_TRY(place.unpacked, unpacked_.get(cluster, [&]() -> Result<std::vector<std::byte>> {
            DREDGER_TRY(const auto bytes, file_->bytes(host, static_cast<std::size_t>(length)));
            return unpack(shape_.compression, bytes, shape_.cluster());
        }));
        place.offset = within;
        place.length = rest;
        return place;
    }

    FilePtr file_;
    Shape shape_;
    NumberTable l1_;
    Recent<std::vector<std::byte>> l2_tables_{64};
    Recent<std::vector<std::byte>> unpacked_{16};
};

tl::unexpected<Error> damaged(const FileMedium& file, std::string what) {
    return fail(ErrorKind::not_understood, std::move(what), file.name(), "the QCOW2 header is damaged");
}

// The states that the image keeps are offered; the wanted one, if it is here, takes the place of today's.
Result<void> look_at_snapshots(const FileMedium& file, const Header& header, Opening& opening, Shape& shape) {
    std::uint64_t at = header.snapshots_offset;
    const std::string wanted = header.nb_snapshots > 0 ? opening.take_snapshot() : std::string();
    bool found = wanted.empty();
    for (std::uint32_t n = 0; n < std::min<std::uint32_t>(header.nb_snapshots, kMaxSnapshots); ++n) {
        DREDGER_TRY(const auto head, file.bytes(at, sizeof(SnapshotHeader)));
        DREDGER_TRY(const SnapshotHeader s, ByteView(head).as<SnapshotHeader>(0));
        const std::uint64_t text_at = at + sizeof s + s.extra_data_size;
        DREDGER_TRY(const auto text, file.bytes(text_at, std::size_t{s.id_str_size} + s.name_size));
        const std::string all(reinterpret_cast<const char*>(text.data()), text.size());
        const std::string id = all.substr(0, s.id_str_size), name = all.substr(s.id_str_size);
        opening.offer_snapshot(name.empty() ? id : name);
        if (!found && (wanted == name || wanted == id)) {
            found = true;
            shape.l1_offset = s.l1_table_offset;
            shape.l1_size = s.l1_size;
            // The size that the disk had then, where it is told.
            if (s.extra_data_size >= 16) {
                DREDGER_TRY(const auto extra, file.bytes(at + sizeof s + 8, 8));
                DREDGER_TRY(const big_uint64_t size, ByteView(extra).as<big_uint64_t>(0));
                if (size != 0) shape.size = size;
            }
        }
        at = (text_at + text.size() + 7) / 8 * 8;
    }
    if (!found)
        return fail(ErrorKind::usage, fmt::format("there is no snapshot {}", wanted), file.name(),
                    "dredger survey names those that there are");
    return {};
}

// Where the last cluster that is in use begins, by the reference counts; 0 where they don't tell.
std::uint64_t last_cluster(const FilePtr& file, const Header& header, const Shape& shape, unsigned refcount_order) {
    constexpr unsigned kLargestOrder = 6;  // counts of 64 bits
    constexpr std::uint64_t kMaxBytes = 64 << 20;
    const std::uint64_t table_bytes = std::uint64_t{header.refcount_table_clusters} << shape.cluster_bits;
    if (refcount_order > kLargestOrder || table_bytes > kMaxBytes) return 0;
    const NumberTable table(file, header.refcount_table_offset, table_bytes / 8, 8, NumberTable::Endian::big);
    const std::uint64_t counts = shape.cluster() * 8 >> refcount_order;  // in a block
    std::uint64_t last = 0, block_at = 0;
    for (std::uint64_t n = 0; n < table.count(); ++n) {
        const auto entry = table.at(n);
        if (!entry) break;
        if (*entry == 0) continue;
        last = n;
        block_at = *entry;
    }
    if (block_at == 0) return 0;
    const auto block = file->bytes(block_at, shape.cluster());
    if (!block) return block_at;  // the counts themselves lie past the end
    const auto used = std::find_if(block->rbegin(), block->rend(), [](std::byte b) { return b != std::byte{0}; });
    if (used == block->rend()) return 0;
    const auto byte = static_cast<std::uint64_t>(block->rend() - used) - 1;
    return (last * counts + (byte * 8 >> refcount_order)) << shape.cluster_bits;
}

struct Extensions {
    std::string backing_format;
    std::string data_file;
};

Result<Extensions> read_extensions(const FileMedium& file, std::uint64_t at, std::uint64_t end) {
    constexpr std::uint32_t kBackingFormat = 0xE2792ACA, kDataFile = 0x44415441;
    Extensions extensions;
    while (at + 8 <= end) {
        DREDGER_TRY(const auto head, file.bytes(at, 8));
        DREDGER_TRY(const big_uint32_t type, ByteView(head).as<big_uint32_t>(0));
        DREDGER_TRY(const big_uint32_t length, ByteView(head).as<big_uint32_t>(4));
        if (type == 0 || length > end - at - 8) break;
        if (type == kBackingFormat || type == kDataFile) {
            DREDGER_TRY(const auto text, file.bytes(at + 8, length));
            (type == kDataFile ? extensions.data_file : extensions.backing_format)
                .assign(reinterpret_cast<const char*>(text.data()), text.size());
        }
        at += 8 + (std::uint64_t{length} + 7) / 8 * 8;
    }
    return extensions;
}

}  // namespace

Result<MediumPtr> open_qcow2(const FilePtr& file, Opening& opening) {
    if (file->size() < sizeof(Header)) return nullptr;
    DREDGER_TRY(const auto bytes, file->bytes(0, sizeof(Header)));
    if (!ByteView(bytes).has(0, "QFI\xFB")) return nullptr;
    DREDGER_TRY(const Header header, ByteView(bytes).as<Header>(0));
    if (header.version != 2 && header.version != 3)
        return fail(ErrorKind::not_understood, fmt::format("QCOW version {} is not known", header.version.value()),
                    file->name(), "copy it into version 2 or 3 first");
    if (header.crypt_method != 0)
        return fail(ErrorKind::not_understood, "this QCOW2 disk is encrypted", file->name(),
                    "copy it into an unencrypted one with its key first");
    Shape shape;
    shape.cluster_bits = header.cluster_bits;
    if (shape.cluster_bits < 9 || shape.cluster_bits > 21) return damaged(*file, "its cluster size can't be");
    shape.size = header.size;
    shape.l1_offset = header.l1_table_offset;
    shape.l1_size = header.l1_size;
    shape.data = file;

    std::uint64_t header_length = sizeof(Header), features = 0;
    unsigned refcount_order = 4;
    if (header.version == 3) {
        DREDGER_TRY(const auto more, file->bytes(sizeof(Header), sizeof(HeaderV3) + 8));
        DREDGER_TRY(const HeaderV3 v3, ByteView(more).as<HeaderV3>(0));
        header_length = v3.header_length;
        features = v3.incompatible_features;
        refcount_order = v3.refcount_order;
        if ((features & kCompressionType) != 0) shape.compression = static_cast<Compression>(more[sizeof(HeaderV3)]);
    }
    if ((features & ~std::uint64_t{kAllKnown}) != 0)
        return fail(ErrorKind::not_understood, "this QCOW2 disk has features that are not known", file->name(),
                    "copy it into one without them");
    if (shape.compression != Compression::deflate && shape.compression != Compression::zstd)
        return fail(ErrorKind::not_understood, "its clusters are packed in a way that is not known", file->name());
    shape.extended_l2 = (features & kExtendedL2) != 0;
    if ((features & kCorrupt) != 0) opening.note("the disk was marked as corrupt by the program that wrote it");
    DREDGER_CHECK(look_at_snapshots(*file, header, opening, shape));
    if (shape.l1_size > kMaxL1) return damaged(*file, "its first table is larger than any");

    const std::uint64_t extensions_end =
        header.backing_file_offset != 0 ? header.backing_file_offset.value() : shape.cluster();
    DREDGER_TRY(const Extensions extensions,
                read_extensions(*file, header_length, std::min(extensions_end, file->size())));
    if ((features & kExternalData) != 0) {
        DREDGER_TRY(shape.data, opening.open_part(*file, extensions.data_file, "the file with its data"));
    }
    if (header.backing_file_offset != 0) {
        if (header.backing_file_size > 1023) return damaged(*file, "the name of its backing file can't be");
        DREDGER_TRY(const auto text, file->bytes(header.backing_file_offset, header.backing_file_size));
        std::string name(reinterpret_cast<const char*>(text.data()), text.size());
        if (name.starts_with("file:")) name.erase(0, 5);
        DREDGER_TRY(shape.backing, opening.open_parent(*file, {name}, {}, extensions.backing_format == "raw"));
    }
    opening.note_if_cut(*file, last_cluster(file, header, shape, refcount_order) + 1);
    return std::make_shared<Qcow2>(file, std::move(shape));
}

}  // namespace dredger::images

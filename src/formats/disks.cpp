// Disks of virtual machines as files (the formats that media/images/ reads): QCOW2 (QEMU's docs/interop/qcow2.txt),
// VDI, VHD (Microsoft's "Virtual Hard Disk Image Format Specification"), VHDX ([MS-VHDX]), VMDK ("Virtual Disk
// Format 5.0").
#include <algorithm>

#include "base/checked.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

constexpr std::uint64_t kMaxDisk = std::uint64_t{1} << 46;

// The last cluster that anything refers to.
Measured measure_qcow2(Reader& content) {
    const std::uint32_t version = content.u32be(4), shift = content.u32be(20);
    if ((version != 2 && version != 3) || shift < 9 || shift > 21) return nonsense();
    const std::uint64_t cluster = std::uint64_t{1} << shift;
    const std::uint64_t table = content.u64be(48), clusters = content.u32be(56);
    const std::uint32_t order = version == 3 ? content.u32be(96) : 4;
    if (order > 6 || clusters == 0 || clusters > 1 << 16 || table % cluster != 0 || table > kMaxDisk) return nonsense();
    const std::uint64_t per_block = cluster * 8 >> order;
    std::uint64_t last = 0;
    for (std::uint64_t i = 0; i < clusters * cluster / 8 && content.ok(); ++i) {
        const std::uint64_t block = content.u64be(table + 8 * i);
        if (block == 0) continue;
        if (!content.holds(block, cluster)) return broken(content.size(), "its end is missing");
        // From its end: the last count that is not zero.
        for (std::uint64_t bytes = cluster; bytes > 0; --bytes)
            if (content.u8(block + bytes - 1) != 0) {
                const std::uint64_t counts =
                    order >= 3 ? (bytes - 1) / (std::uint64_t{1} << (order - 3)) + 1 : bytes * (8U >> order);
                last = std::max(last, i * per_block + counts);
                break;
            }
    }
    return last == 0 || last > kMaxDisk / cluster ? nonsense() : sized(content, last * cluster, Proof::length);
}

Measured measure_vdi(Reader& content) {
    const std::uint64_t data = content.u32le(344), block = content.u32le(376), blocks = content.u32le(388);
    if (content.u32le(64) != 0xBEDA107F || block < 4096 || block > 1 << 26 || data < 512) return nonsense();
    return sized(content, data + block * blocks, Proof::length);
}

// One that grows: a copy of the footer, a header, a table of blocks, and the footer.
Measured measure_vhd(Reader& content) {
    constexpr std::uint32_t kFree = 0xFFFFFFFF;
    const std::uint64_t header = content.u64be(16);
    if (content.u32be(60) != 3 || header > kMaxDisk || !content.has(header, "cxsparse")) return nonsense();
    const std::uint64_t table = content.u64be(header + 16), entries = content.u32be(header + 28),
                        block = content.u32be(header + 32);
    if (table > kMaxDisk || entries > 16 << 20 || block < 4096 || block > 1 << 28) return nonsense();
    const std::uint64_t bitmap = divide_up(divide_up(block / 512, 8), 512) * 512;
    std::uint64_t end = table + divide_up(entries * 4, 512) * 512;
    for (std::uint64_t i = 0; i < entries && content.ok(); ++i)
        if (const std::uint32_t sector = content.u32be(table + 4 * i); sector != kFree)
            end = std::max(end, sector * std::uint64_t{512} + bitmap + block);
    if (!content.holds(end, 512)) return sized(content, end + 512, Proof::length);
    return content.has(end, "conectix") ? whole(end + 512, Proof::chain)
                                        : broken(end, "its footer is missing", end + 512);
}

// The size of a block, among the metadata ([MS-VHDX] 2.6.2.1); 0: it is not told.
std::uint64_t vhdx_block(Reader& content, std::uint64_t metadata) {
    if (!content.has(metadata, "metadata")) return 0;
    const unsigned items = std::min<unsigned>(content.u16le(metadata + 10), 2047);
    for (unsigned i = 0; i < items; ++i)
        if (const std::uint64_t item = metadata + 32 + 32 * std::uint64_t{i}; content.has(item, "\x37\x67\xA1\xCA"sv))
            return content.u32le(metadata + content.u32le(item + 16));
    return 0;
}

Measured measure_vhdx(Reader& content) {
    constexpr std::uint64_t kRegions = 192 << 10, kMiB = 1 << 20;
    if (!content.has(kRegions, "regi")) return nonsense();
    std::uint64_t end = kMiB, table = 0, table_length = 0, block = 0;
    for (unsigned i = 0; i < std::min(content.u32le(kRegions + 8), 16U); ++i) {
        const std::uint64_t entry = kRegions + 16 + 32 * std::uint64_t{i}, offset = content.u64le(entry + 16),
                            length = content.u32le(entry + 24);
        if (offset % kMiB != 0 || offset > kMaxDisk) return nonsense();
        end = std::max(end, offset + length);
        if (content.has(entry, "\x66\x77\xC2\x2D"sv))
            table = offset, table_length = length;  // the block allocation table
        if (content.has(entry, "\x06\xA2\x7C\x8B"sv)) block = vhdx_block(content, offset);
    }
    if (block < kMiB || block > 256 * kMiB) return nonsense();
    for (std::uint64_t at = table; at < table + table_length && content.ok(); at += 8) {
        const std::uint64_t word = content.u64le(at), place = word >> 20 << 20;
        if ((word & 7U) >= 6 && place < kMaxDisk) end = std::max(end, place + block);
    }
    for (unsigned i = 1; i <= 2; ++i)
        if (content.has(i * (64ULL << 10), "head"))
            end = std::max(end, content.u64le(i * (64ULL << 10) + 72) + content.u32le(i * (64ULL << 10) + 68));
    return end > kMaxDisk ? nonsense() : sized(content, end, Proof::length);
}

Measured measure_vmdk(Reader& content) {
    constexpr std::uint64_t kSector = 512, kAtEnd = ~std::uint64_t{0};
    const std::uint64_t capacity = content.u64le(12), grain = content.u64le(20), per_table = content.u32le(44),
                        directory = content.u64le(56);
    const std::uint64_t overhead = content.u64le(64);
    if (content.u32le(4) == 0 || content.u32le(4) > 3 || grain == 0 || grain > 65536 || per_table == 0 ||
        per_table > 65536 || capacity > kMaxDisk / kSector)
        return nonsense();
    if (directory == kAtEnd) {
        // Grains one behind the other, each with its length, and markers between.
        std::uint64_t at = overhead * kSector;
        while (content.holds(at, kSector)) {
            const std::uint64_t value = content.u64le(at), size = content.u32le(at + 8);
            if (size != 0) {
                at += divide_up(12 + size, kSector) * kSector;
                continue;
            }
            const std::uint32_t type = content.u32le(at + 12);
            if (type == 0 && value == 0) return whole(at + kSector, Proof::chain);
            if (type > 3 || value > 1 << 20) break;
            at += kSector + value * kSector;
        }
        return broken(std::min(at, content.size()), "its end is missing");
    }
    std::uint64_t end = overhead * kSector;
    const std::uint64_t tables = divide_up(divide_up(capacity, grain), per_table);
    if (tables > 1 << 20) return nonsense();
    for (std::uint64_t t = 0; t < tables && content.ok(); ++t) {
        const std::uint64_t table = std::uint64_t{content.u32le(directory * kSector + 4 * t)} * kSector;
        if (table == 0) continue;
        for (std::uint64_t g = 0; g < per_table && content.ok(); ++g)
            if (const std::uint64_t place = content.u32le(table + 4 * g); place > 1)
                end = std::max(end, (place + grain) * kSector);
    }
    return sized(content, end, Proof::length);
}

}  // namespace

const std::vector<Format>& disks() {
    static const std::vector<Format> family = {
        {.name = "qcow2",
         .kind = Kind::archive,
         .extensions = {"qcow2", "qcow"},
         .signatures = {{{0, "QFI\xFB"sv}}},
         .measure = measure_qcow2,
         .ending = "the last cluster that is referred to",
         .checked = "the table of references"},
        {.name = "vdi",
         .kind = Kind::archive,
         .extensions = {"vdi"},
         .signatures = {{{64, "\x7F\x10\xDA\xBE"sv}}},
         .measure = measure_vdi,
         .ending = "its blocks, as many as the header tells",
         .checked = "the header"},
        {.name = "vhd",
         .kind = Kind::archive,
         .extensions = {"vhd"},
         .signatures = {{{0, "conectix"sv}}},
         .measure = measure_vhd,
         .ending = "its footer",
         .checked = "the table of blocks"},
        {.name = "vhdx",
         .kind = Kind::archive,
         .extensions = {"vhdx", "avhdx"},
         .signatures = {{{0, "vhdxfile"sv}}},
         .measure = measure_vhdx,
         .ending = "the furthest block of its table",
         .checked = "the tables"},
        {.name = "vmdk",
         .kind = Kind::archive,
         .extensions = {"vmdk"},
         .signatures = {{{0, "KDMV"sv}}},
         .measure = measure_vmdk,
         .ending = "the furthest grain of its tables, or its end marker",
         .checked = "the tables"},
    };
    return family;
}

}  // namespace dredger::formats

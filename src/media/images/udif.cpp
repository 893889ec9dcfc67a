// UDIF, the disk images (.dmg) of macOS. Source: the layout as Apple's Disk Images framework writes it, described in
// the public notes of several open readers (QEMU's block/dmg.c among them). All numbers are big-endian; a property list
// (XML) in the file holds the block tables.
#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>
#include <openssl/evp.h>
#include <pugixml.hpp>
#include <set>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/stream_decoder.h"
#include "media/images/adc.h"
#include "media/images/image.h"
#include "media/images/runs.h"
#include "media/lzfse.h"

namespace dredger::images {
namespace {

using boost::endian::big_uint32_t, boost::endian::big_uint64_t;

// The last 512 bytes of the file.
struct Trailer {
    char signature[4];  // "koly"
    big_uint32_t version;
    big_uint32_t header_size;
    big_uint32_t flags;
    big_uint64_t running_data_fork_offset;
    big_uint64_t data_fork_offset;
    big_uint64_t data_fork_length;
    big_uint64_t rsrc_fork_offset;
    big_uint64_t rsrc_fork_length;
    big_uint32_t segment_number;
    big_uint32_t segment_count;
    std::byte segment_id[16];
    std::byte data_checksum[136];
    big_uint64_t plist_offset;
    big_uint64_t plist_length;
    std::byte reserved[120];
    std::byte checksum[136];
    big_uint32_t image_variant;
    big_uint64_t sector_count;
    std::byte reserved2[12];
};
static_assert(sizeof(Trailer) == 512);

struct BlockTable {
    char signature[4];  // "mish"
    big_uint32_t version;
    big_uint64_t sector_number;  // of the disk
    big_uint64_t sector_count;
    big_uint64_t data_offset;
    big_uint32_t buffers_needed;
    big_uint32_t block_descriptors;
    std::byte reserved[24];
    std::byte checksum[136];
    big_uint32_t chunk_count;
};
static_assert(sizeof(BlockTable) == 204);

struct Chunk {
    big_uint32_t type;
    big_uint32_t comment;
    big_uint64_t sector_number;  // from the start of its table
    big_uint64_t sector_count;
    big_uint64_t packed_offset;
    big_uint64_t packed_length;
};

enum ChunkType : std::uint32_t {
    kZeros = 0,
    kRaw = 1,
    kIgnore = 2,
    kAdc = 0x80000004,
    kZlib = 0x80000005,
    kBzip2 = 0x80000006,
    kLzfse = 0x80000007,
    kLzma = 0x80000008,
    kComment = 0x7FFFFFFE,
    kEnd = 0xFFFFFFFF,
};

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kLargestChunk = 64 << 20;  // bytes
constexpr std::uint64_t kLongestPlist = 64 << 20;

Result<std::vector<std::byte>> unpack(std::uint32_t type, std::vector<std::byte> packed, std::size_t size,
                                      const std::string& name) {
    std::vector<std::byte> out(size);
    std::size_t got = 0;
    switch (type) {
        case kZlib: got = StreamDecoder::decode_all(Packing::zlib, packed, out); break;
        case kBzip2: got = StreamDecoder::decode_all(Packing::bzip2, packed, out); break;
        case kLzma: got = StreamDecoder::decode_all(Packing::xz, packed, out); break;
        case kLzfse: got = lzfse_unpack(packed, out); break;
        case kAdc: got = adc_unpack(packed, out); break;
        default: break;
    }
    if (got != size) return fail(ErrorKind::not_understood, "a packed chunk is damaged", name);
    return out;
}

std::vector<std::byte> from_base64(std::string text) {
    std::erase_if(text, [](char c) { return c == ' ' || c == '\t' || c == '\n' || c == '\r'; });
    text.resize(text.size() / 4 * 4);
    std::vector<std::byte> out(text.size() / 4 * 3);
    const int length =
        EVP_DecodeBlock(reinterpret_cast<unsigned char*>(out.data()),
                        reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
    out.resize(length < 0 ? 0 : static_cast<std::size_t>(length));
    return out;
}

// The block tables that the property list holds: resource-fork / blkx / an array of dictionaries, each with its Data.
Result<std::vector<std::vector<std::byte>>> block_tables(const FileMedium& file, const Trailer& trailer) {
    if (trailer.plist_length == 0 || trailer.plist_length > kLongestPlist)
        return fail(ErrorKind::not_understood, "the disk image has no property list with its blocks", file.name(),
                    "convert it with a newer macOS first");
    DREDGER_TRY(const auto text,
                file.bytes(trailer.plist_offset, static_cast<std::size_t>(trailer.plist_length.value())));
    pugi::xml_document document;
    if (!document.load_buffer(text.data(), text.size()))
        return fail(ErrorKind::not_understood, "the property list of the disk image is damaged", file.name());
    std::vector<std::vector<std::byte>> tables;
    for (const auto& found : document.select_nodes("//key[.='blkx']/following-sibling::array[1]/dict")) {
        const auto data = found.node().select_node("key[.='Data']/following-sibling::data[1]");
        if (data) tables.push_back(from_base64(data.node().text().get()));
    }
    return tables;
}

Result<void> add_runs(const std::vector<std::byte>& bytes, const FilePtr& file, std::uint64_t data_fork,
                      std::vector<Run>& runs, std::set<std::string>& unknown) {
    const ByteView view(bytes);
    DREDGER_TRY(const auto table, view.as<BlockTable>(0));
    if (!view.has(0, "mish"))
        return fail(ErrorKind::not_understood, "a block table of the disk image is damaged", file->name());
    for (std::uint32_t n = 0; n < table.chunk_count; ++n) {
        DREDGER_TRY(const auto chunk, view.as<Chunk>(sizeof table + std::size_t{n} * sizeof(Chunk)));
        if (chunk.type == kEnd) break;
        if (chunk.type == kComment || chunk.sector_count == 0) continue;
        const auto first = checked_add(table.sector_number, chunk.sector_number);
        const auto start = first ? checked_mul(*first, kSector) : std::nullopt;
        const auto length = checked_mul(chunk.sector_count, kSector);
        const auto at = checked_add(data_fork, chunk.packed_offset);
        if (!start || !length || !at || !checked_add(*start, *length))
            return fail(ErrorKind::not_understood, "a block table of the disk image is damaged", file->name());
        Run run{*start, *length};
        switch (chunk.type) {
            case kZeros:
            case kIgnore: break;
            case kRaw:
                run.on = file;
                run.offset = *at;
                break;
            case kZlib:
            case kBzip2:
            case kLzma:
            case kLzfse:
            case kAdc:
                if (*length > kLargestChunk || chunk.packed_length > 2 * kLargestChunk) {
                    run.is_lost = true;
                    break;
                }
                run.unpack = [file, type = chunk.type.value(), from = *at, packed = chunk.packed_length.value(),
                              size = *length]() -> Result<std::vector<std::byte>> {
                    DREDGER_TRY(auto stored, file->bytes(from, static_cast<std::size_t>(packed)));
                    return unpack(type, std::move(stored), static_cast<std::size_t>(size), file->name());
                };
                break;
            default: unknown.insert("an unknown codec"); run.is_lost = true;
        }
        runs.push_back(std::move(run));
    }
    return {};
}

// In order, overlaps cut away, and what no table speaks of filled with zeros.
std::vector<Run> in_order(std::vector<Run> runs, std::uint64_t size) {
    std::sort(runs.begin(), runs.end(), [](const Run& a, const Run& b) { return a.start < b.start; });
    std::vector<Run> all;
    std::uint64_t reached = 0;
    for (Run& run : runs) {
        if (run.start < reached) continue;
        if (run.start > reached) all.push_back({reached, run.start - reached});
        reached = run.start + run.length;
        all.push_back(std::move(run));
    }
    if (size > reached) all.push_back({reached, size - reached});
    return all;
}

}  // namespace

Result<MediumPtr> open_udif(const FilePtr& file, Opening& /*opening*/) {
    if (file->size() < sizeof(Trailer)) return nullptr;
    DREDGER_TRY(const auto head, file->bytes(0, 8));
    DREDGER_TRY(const auto tail, file->bytes(file->size() - sizeof(Trailer), sizeof(Trailer)));
    if (ByteView(head).has(0, "encrcdsa") || ByteView(tail).has(sizeof(Trailer) - 8, "cdsaencr"))
        return fail(ErrorKind::not_understood, "this disk image is encrypted", file->name(),
                    "decrypt it on a Mac, with its password, into a new image first");
    if (!ByteView(tail).has(0, "koly")) return nullptr;
    DREDGER_TRY(const Trailer trailer, ByteView(tail).as<Trailer>(0));
    if (trailer.segment_count > 1)
        return fail(ErrorKind::not_understood, "this disk image is in several segments", file->name(),
                    "convert it into one file on a Mac first");
    DREDGER_TRY(const auto tables, block_tables(*file, trailer));
    std::vector<Run> runs;
    std::set<std::string> unknown;
    for (const auto& table : tables) {
        DREDGER_TRY(const ByteView mish,
                    ByteView(table).slice(0, std::min<std::size_t>(table.size(), sizeof(BlockTable))));
        DREDGER_TRY(const auto header, mish.as<BlockTable>(0));
        DREDGER_CHECK(add_runs(table, file, trailer.data_fork_offset + header.data_offset, runs, unknown));
    }
    const auto size = checked_mul(trailer.sector_count, kSector);
    runs = in_order(std::move(runs), size.value_or(0));
    if (runs.empty()) return fail(ErrorKind::not_understood, "the disk image holds no blocks", file->name());
    const bool all_lost =
        std::all_of(runs.begin(), runs.end(), [](const Run& r) { return r.on == nullptr && !r.unpack; });
    if (!unknown.empty() && all_lost)
        return fail(ErrorKind::not_understood,
                    fmt::format("this disk image is packed with {}, which can't be read", fmt::join(unknown, ", ")),
                    file->name(), "convert it with zlib on a Mac first (UDZO)");
    return std::make_shared<Runs>(file->name(), std::move(runs));
}

}  // namespace dredger::images

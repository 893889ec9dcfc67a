// Android sparse images. Source: the Android Open Source Project, system/core/libsparse/sparse_format.h. All numbers
// are little-endian.
#include <array>
#include <boost/endian/arithmetic.hpp>
#include <fmt/format.h>

#include "base/bytes.h"
#include "media/images/image.h"
#include "media/images/runs.h"

namespace dredger::images {
namespace {

using boost::endian::little_uint16_t, boost::endian::little_uint32_t;

struct SparseHeader {
    little_uint32_t magic;  // 0xED26FF3A
    little_uint16_t major_version;
    little_uint16_t minor_version;
    little_uint16_t file_hdr_sz;
    little_uint16_t chunk_hdr_sz;
    little_uint32_t blk_sz;  // bytes
    little_uint32_t total_blks;
    little_uint32_t total_chunks;
    little_uint32_t image_checksum;
};

struct ChunkHeader {
    little_uint16_t chunk_type;
    little_uint16_t reserved1;
    little_uint32_t chunk_sz;  // blocks of the disk
    little_uint32_t total_sz;  // bytes in the file, with this header
};

constexpr std::uint32_t kMagic = 0xED26FF3A;
enum ChunkType : std::uint16_t { kRaw = 0xCAC1, kFill = 0xCAC2, kDontCare = 0xCAC3, kCrc32 = 0xCAC4 };

// The same four bytes, over and over.
class Filled final : public Medium {
  public:
    Filled(std::string name, std::uint64_t size, std::array<std::byte, 4> fill)
        : name_(std::move(name)), size_(size), fill_(fill) {}
    std::uint64_t size() const override { return size_; }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return name_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>&) const override {
        for (std::size_t i = 0; i < into.size(); ++i) into[i] = fill_[(offset + i) % fill_.size()];
        return {};
    }

  private:
    std::string name_;
    std::uint64_t size_;
    std::array<std::byte, 4> fill_;
};

}  // namespace

Result<MediumPtr> open_android_sparse(const FilePtr& file, Opening& /*opening*/) {
    if (file->size() < sizeof(SparseHeader)) return nullptr;
    DREDGER_TRY(const auto bytes, file->bytes(0, sizeof(SparseHeader)));
    DREDGER_TRY(const SparseHeader header, ByteView(bytes).as<SparseHeader>(0));
    if (header.magic != kMagic) return nullptr;
    if (header.major_version != 1 || header.file_hdr_sz < sizeof(SparseHeader) ||
        header.chunk_hdr_sz < sizeof(ChunkHeader) || header.blk_sz == 0 || header.blk_sz % 4 != 0)
        return fail(ErrorKind::not_understood, "the header of the sparse image is damaged", file->name());
    std::vector<Run> runs;
    std::uint64_t at = header.file_hdr_sz, start = 0;
    for (std::uint32_t n = 0; n < header.total_chunks; ++n) {
        const auto head = file->bytes(at, sizeof(ChunkHeader));
        if (!head)
            return fail(ErrorKind::not_understood, "the sparse image is cut short", file->name(),
                        fmt::format("{} of its {} chunks are there", n, header.total_chunks.value()));
        DREDGER_TRY(const ChunkHeader chunk, ByteView(*head).as<ChunkHeader>(0));
        const std::uint64_t length = std::uint64_t{chunk.chunk_sz} * header.blk_sz;
        const std::uint64_t data = at + header.chunk_hdr_sz;
        Run run{start, length, nullptr, 0};
        if (chunk.chunk_type == kRaw) {
            run.on = file;
            run.offset = data;
        } else if (chunk.chunk_type == kFill) {
            DREDGER_TRY(const auto fill, file->bytes(data, 4));
            run.on = std::make_shared<Filled>(file->name(), length, *ByteView(fill).as<std::array<std::byte, 4>>(0));
        } else if (chunk.chunk_type == kCrc32) {
            run.length = 0;
        } else if (chunk.chunk_type != kDontCare) {
            return fail(ErrorKind::not_understood, "a chunk of the sparse image is damaged",
                        fmt::format("{}, offset {}", file->name(), at));
        }
        if (run.length > 0) runs.push_back(std::move(run));
        if (chunk.chunk_type != kCrc32) start += length;
        if (chunk.total_sz < header.chunk_hdr_sz)
            return fail(ErrorKind::not_understood, "a chunk of the sparse image is damaged",
                        fmt::format("{}, offset {}", file->name(), at));
        at += chunk.total_sz;
    }
    if (runs.empty()) return fail(ErrorKind::not_understood, "the sparse image holds nothing", file->name());
    return std::make_shared<Runs>(file->name(), std::move(runs));
}

}  // namespace dredger::images

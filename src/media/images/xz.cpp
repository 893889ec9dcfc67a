// An xz-packed raw image, through the index at its end (The .xz File Format, version 1.1).
#include <fmt/format.h>
#include <lzma.h>

#include "base/bytes.h"
#include "media/images/image.h"
#include "media/images/packed_stream.h"

namespace dredger::images {
namespace {

constexpr std::uint64_t kMaxMemory = 256 << 20;  // bytes
constexpr unsigned kStreams = 256;               // PackedUnit::detail where no index tells of the blocks

// One block, or all streams from their start.
class XzUnpacker final : public Unpacker {
  public:
    XzUnpacker(const FilePtr& file, const PackedUnit& unit) : input_(file, unit.packed) {
        if (unit.detail == kStreams) {
            is_ready_ = lzma_stream_decoder(&stream_, kMaxMemory, LZMA_CONCATENATED) == LZMA_OK;
            return;
        }
        const auto first = file->bytes(unit.packed, 1);
        if (!first) return;
        block_.version = 1;
        block_.check = static_cast<lzma_check>(unit.detail);
        block_.header_size = lzma_block_header_size_decode(static_cast<std::uint8_t>((*first)[0]));
        const auto header = file->bytes(unit.packed, block_.header_size);
        block_.filters = filters_;
        if (!header || lzma_block_header_decode(&block_, nullptr,
                                                reinterpret_cast<const std::uint8_t*>(header->data())) != LZMA_OK)
            return;
        input_ = PackedInput(file, unit.packed + block_.header_size);
        is_ready_ = lzma_block_decoder(&stream_, &block_) == LZMA_OK;
        lzma_filters_free(filters_, nullptr);
    }
    ~XzUnpacker() override { lzma_end(&stream_); }
    XzUnpacker(const XzUnpacker&) = delete;
    XzUnpacker& operator=(const XzUnpacker&) = delete;

    Result<std::size_t> next(std::span<std::byte> into) override {
        if (!is_ready_) return fail(ErrorKind::not_understood, "the packed image is damaged");
        stream_.next_out = reinterpret_cast<std::uint8_t*>(into.data());
        stream_.avail_out = into.size();
        while (stream_.avail_out > 0 && !ended_) {
            if (stream_.avail_in == 0) {
                DREDGER_TRY(const auto bytes, input_.next());
                if (bytes.empty()) break;
                stream_.next_in = reinterpret_cast<const std::uint8_t*>(bytes.data());
                stream_.avail_in = bytes.size();
            }
            ended_ = lzma_code(&stream_, LZMA_RUN) != LZMA_OK;
        }
        return into.size() - stream_.avail_out;
    }

  private:
    PackedInput input_;
    lzma_stream stream_ = LZMA_STREAM_INIT;
    lzma_block block_{};
    lzma_filter filters_[LZMA_FILTERS_MAX + 1] = {};
    bool is_ready_ = false;
    bool ended_ = false;
};

struct Free {
    void operator()(lzma_index* index) const { lzma_index_end(index, nullptr); }
};
using Index = std::unique_ptr<lzma_index, Free>;

// Null where it is damaged or missing.
Result<Index> read_index(const FilePtr& file) {
    lzma_stream stream = LZMA_STREAM_INIT;
    lzma_index* index = nullptr;
    lzma_ret done = lzma_file_info_decoder(&stream, &index, kMaxMemory, file->size());
    PackedInput input(file, 0);
    while (done == LZMA_OK) {
        if (stream.avail_in == 0) {
            DREDGER_TRY(const auto bytes, input.next());
            stream.next_in = reinterpret_cast<const std::uint8_t*>(bytes.data());
            stream.avail_in = bytes.size();
        }
        done = lzma_code(&stream, stream.avail_in == 0 ? LZMA_FINISH : LZMA_RUN);
        if (done == LZMA_SEEK_NEEDED) {
            input = PackedInput(file, stream.seek_pos);
            stream.avail_in = 0;
            done = LZMA_OK;
        }
    }
    lzma_end(&stream);
    return Index(done == LZMA_STREAM_END ? index : nullptr);
}

std::vector<PackedUnit> blocks_of(const lzma_index* index) {
    std::vector<PackedUnit> units;
    lzma_index_iter block;
    lzma_index_iter_init(&block, index);
    while (!lzma_index_iter_next(&block, LZMA_INDEX_ITER_NONEMPTY_BLOCK))
        units.push_back({block.block.compressed_file_offset,
                         block.block.uncompressed_file_offset,
                         block.block.uncompressed_size,
                         block.stream.flags == nullptr ? 0 : static_cast<unsigned>(block.stream.flags->check),
                         {}});
    return units;
}

// What comes out of a file without its end, in one piece.
std::vector<PackedUnit> all_that_comes_of(const FilePtr& file) {
    PackedUnit unit{0, 0, 0, kStreams, {}};
    XzUnpacker unpacker(file, unit);
    unit.length = content_length(unpacker).value_or(0);
    if (unit.length == 0) return {};
    return {unit};
}

}  // namespace

Result<MediumPtr> open_xz(const FilePtr& file, Opening& opening) {
    constexpr std::size_t kShortest = 32;
    if (file->size() < kShortest) return nullptr;
    DREDGER_TRY(const auto head, file->bytes(0, 6));
    if (!ByteView(head).has(0, std::string_view("\xFD"
                                                "7zXZ\0",
                                                6)))
        return nullptr;
    DREDGER_TRY(const Index index, read_index(file));
    if (!index) opening.note("the packed image is cut short; what comes out of it is read");
    auto units = index ? blocks_of(index.get()) : all_that_comes_of(file);
    if (units.empty()) return fail(ErrorKind::not_understood, "nothing comes out of the packed image", file->name());
    return std::make_shared<PackedStream>(file->name(), std::move(units),
                                          [file](const PackedUnit& unit) -> Result<std::unique_ptr<Unpacker>> {
                                              return std::make_unique<XzUnpacker>(file, unit);
                                          });
}

}  // namespace dredger::images

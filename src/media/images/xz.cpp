// An xz-packed raw image, through the index at its end (The .xz File Format, version 1.1).
#include <fmt/format.h>
#include <lzma.h>

#include "base/bytes.h"
#include "media/images/image.h"
#include "media/images/packed_stream.h"

namespace dredger::images {
namespace {

constexpr std::uint64_t kMostMemory = 256 << 20;  // bytes

class BlockUnpacker final : public Unpacker {
  public:
    BlockUnpacker(const FilePtr& file, const PackedUnit& unit) : input_(file, unit.packed) {
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
    ~BlockUnpacker() override { lzma_end(&stream_); }
    BlockUnpacker(const BlockUnpacker&) = delete;
    BlockUnpacker& operator=(const BlockUnpacker&) = delete;

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

Result<lzma_index*> read_index(const FilePtr& file) {
    lzma_stream stream = LZMA_STREAM_INIT;
    lzma_index* index = nullptr;
    lzma_ret done = lzma_file_info_decoder(&stream, &index, kMostMemory, file->size());
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
    if (done != LZMA_STREAM_END)
        return fail(ErrorKind::not_understood, "the index of the xz file is damaged or missing", file->name(),
                    "the file was cut short: unpack what there is of it with xz -dc");
    return index;
}

}  // namespace

Result<MediumPtr> open_xz(const FilePtr& file, Opening& /*opening*/) {
    constexpr std::size_t kShortest = 32;
    if (file->size() < kShortest) return nullptr;
    DREDGER_TRY(const auto head, file->bytes(0, 6));
    if (!ByteView(head).has(0, std::string_view("\xFD"
                                                "7zXZ\0",
                                                6)))
        return nullptr;
    DREDGER_TRY(lzma_index* const read, read_index(file));
    struct Free {
        void operator()(lzma_index* index) const { lzma_index_end(index, nullptr); }
    };
    const std::unique_ptr<lzma_index, Free> index(read);
    std::vector<PackedUnit> units;
    lzma_index_iter block;
    lzma_index_iter_init(&block, index.get());
    while (!lzma_index_iter_next(&block, LZMA_INDEX_ITER_NONEMPTY_BLOCK))
        units.push_back({block.block.compressed_file_offset,
                         block.block.uncompressed_file_offset,
                         block.block.uncompressed_size,
                         block.stream.flags == nullptr ? 0 : static_cast<unsigned>(block.stream.flags->check),
                         {}});
    if (units.empty()) return fail(ErrorKind::not_understood, "nothing comes out of the packed image", file->name());
    return std::make_shared<PackedStream>(file->name(), std::move(units),
                                          [file](const PackedUnit& unit) -> Result<std::unique_ptr<Unpacker>> {
                                              return std::make_unique<BlockUnpacker>(file, unit);
                                          });
}

}  // namespace dredger::images

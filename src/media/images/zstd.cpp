// A zstd-packed raw image, frame by frame (RFC 8878).
#include <fmt/format.h>
#include <zstd.h>

#include "base/bytes.h"
#include "media/images/image.h"
#include "media/images/packed_stream.h"

namespace dredger::images {
namespace {

constexpr std::uint32_t kFrame = 0xFD2FB528;
constexpr std::uint32_t kSkippable = 0x184D2A50;  // and 15 more

class FrameUnpacker final : public Unpacker {
  public:
    FrameUnpacker(const FilePtr& file, const PackedUnit& unit)
        : input_(file, unit.packed), context_(ZSTD_createDCtx(), ZSTD_freeDCtx) {
        constexpr int kLargestWindow = 31;  // log2 of bytes: what zstd --ultra --long=31 makes
        (void)ZSTD_DCtx_setParameter(context_.get(), ZSTD_d_windowLogMax, kLargestWindow);
    }

    Result<std::size_t> next(std::span<std::byte> into) override {
        ZSTD_outBuffer out{into.data(), into.size(), 0};
        while (out.pos < out.size && !ended_) {
            if (in_.pos == in_.size) {
                DREDGER_TRY(const auto bytes, input_.next());
                if (bytes.empty()) break;
                in_ = {bytes.data(), bytes.size(), 0};
            }
            const std::size_t left = ZSTD_decompressStream(context_.get(), &out, &in_);
            ended_ = left == 0 || ZSTD_isError(left) != 0;
        }
        return out.pos;
    }

  private:
    PackedInput input_;
    std::unique_ptr<ZSTD_DCtx, decltype(&ZSTD_freeDCtx)> context_;
    ZSTD_inBuffer in_{};
    bool ended_ = false;
};

struct FrameFacts {
    std::uint64_t end = 0;                 // byte of the file behind it
    std::optional<std::uint64_t> content;  // bytes; none: not told
    bool is_whole = true;
};

// The frame that begins at `at`, by its header and its blocks' headers. None where none begins there.
std::optional<FrameFacts> frame_at(const FileMedium& file, std::uint64_t at) {
    constexpr std::size_t kLongestHeader = 18;
    if (at >= file.size()) return std::nullopt;
    const auto head =
        file.bytes(at, static_cast<std::size_t>(std::min<std::uint64_t>(kLongestHeader, file.size() - at)));
    if (!head) return std::nullopt;
    const ByteView view(*head);
    const auto magic = view.u32le(0);
    if (!magic) return std::nullopt;
    if ((*magic & ~15U) == kSkippable) {
        const auto length = view.u32le(4);
        if (!length) return std::nullopt;
        return FrameFacts{at + 8 + *length, 0};
    }
    if (*magic != kFrame || view.size() < 6) return std::nullopt;
    const unsigned descriptor = *view.u8(4);
    const bool single_segment = (descriptor & 0x20U) != 0, has_checksum = (descriptor & 4U) != 0;
    constexpr std::uint64_t kDictionary[] = {0, 1, 2, 4}, kContentSize[] = {0, 2, 4, 8};
    const std::uint64_t size_bytes = descriptor >> 6U == 0 ? (single_segment ? 1 : 0) : kContentSize[descriptor >> 6U];
    FrameFacts facts;
    const auto told = ZSTD_getFrameContentSize(head->data(), head->size());
    if (told != ZSTD_CONTENTSIZE_UNKNOWN && told != ZSTD_CONTENTSIZE_ERROR) facts.content = told;
    facts.end = at + 5 + (single_segment ? 0 : 1) + kDictionary[descriptor & 3U] + size_bytes;
    while (true) {
        const auto block = facts.end + 3 <= file.size() ? file.bytes(facts.end, 3) : Result<std::vector<std::byte>>();
        if (!block || block->size() < 3) {
            facts.is_whole = false;
            facts.end = file.size();
            return facts;
        }
        const unsigned header = static_cast<unsigned>((*block)[0]) | static_cast<unsigned>((*block)[1]) << 8U |
                                static_cast<unsigned>((*block)[2]) << 16U;
        const unsigned type = header >> 1U & 3U;
        facts.end += 3 + (type == 1 ? 1 : header >> 3U);
        if ((header & 1U) != 0) break;
    }
    facts.end += has_checksum ? 4 : 0;
    facts.is_whole = facts.end <= file.size();
    return facts;
}

}  // namespace

Result<MediumPtr> open_zstd(const FilePtr& file, Opening& opening) {
    if (file->size() < 8) return nullptr;
    std::vector<PackedUnit> units;
    std::uint64_t at = 0, start = 0;
    while (const auto frame = frame_at(*file, at)) {
        PackedUnit unit{at, start, 0, 0, {}};
        if (frame->content && frame->is_whole) {
            unit.length = *frame->content;
        } else {
            FrameUnpacker unpacker(file, unit);
            DREDGER_TRY(unit.length, content_length(unpacker));
        }
        if (!frame->is_whole) opening.note("the packed image is cut short; what comes out of it is read");
        at = frame->end;
        start += unit.length;
        if (unit.length > 0) units.push_back(std::move(unit));
    }
    if (at == 0) return nullptr;
    if (units.empty()) return fail(ErrorKind::not_understood, "nothing comes out of the packed image", file->name());
    return std::make_shared<PackedStream>(file->name(), std::move(units),
                                          [file](const PackedUnit& unit) -> Result<std::unique_ptr<Unpacker>> {
                                              return std::make_unique<FrameUnpacker>(file, unit);
                                          });
}

}  // namespace dredger::images

// A gzip-packed raw image (RFC 1952). One pass over the file finds places between deflate blocks at which unpacking can
// begin again, given the 32 KiB of content in front of them.
#include <fmt/format.h>
#include <zlib.h>

#include "base/bytes.h"
#include "media/images/image.h"
#include "media/images/packed_stream.h"

namespace dredger::images {
namespace {

constexpr std::size_t kWindow = 32 << 10;         // bytes
constexpr std::uint64_t kFirstSpacing = 4 << 20;  // bytes of content between two places, at least
constexpr std::size_t kMaxUnits = 1024;           // when there are more, every other one goes
constexpr int kGzip = 15 + 16, kRaw = -15;        // zlib's windowBits
constexpr unsigned kInMember = 1U << 8U;          // PackedUnit::detail, besides the bits

class Inflater final : public Unpacker {
  public:
    Inflater(const FilePtr& file, const PackedUnit& unit) : input_(file, unit.packed) {
        const bool within = (unit.detail & kInMember) != 0;
        is_ready_ = inflateInit2(&stream_, within ? kRaw : kGzip) == Z_OK;
        is_raw_ = within;
        const int bits = static_cast<int>(unit.detail & 7U);
        if (bits != 0) {
            const auto byte = file->bytes(unit.packed - 1, 1);
            is_ready_ =
                is_ready_ && byte && inflatePrime(&stream_, bits, static_cast<int>((*byte)[0]) >> (8 - bits)) == Z_OK;
        }
        if (within && !unit.window.empty())
            is_ready_ = is_ready_ && inflateSetDictionary(&stream_, reinterpret_cast<const Bytef*>(unit.window.data()),
                                                          static_cast<uInt>(unit.window.size())) == Z_OK;
    }
    ~Inflater() override { inflateEnd(&stream_); }
    Inflater(const Inflater&) = delete;
    Inflater& operator=(const Inflater&) = delete;

    // Hears of every place between blocks: the stream as it is there.
    std::function<void(const z_stream&, std::uint64_t position, bool begins_member)> between_blocks;

    Result<std::size_t> next(std::span<std::byte> into) override {
        if (!is_ready_) return fail(ErrorKind::not_understood, "the packed image is damaged");
        stream_.next_out = reinterpret_cast<Bytef*>(into.data());
        stream_.avail_out = static_cast<uInt>(into.size());
        while (stream_.avail_out > 0 && !ended_) {
            if (stream_.avail_in == 0) {
                DREDGER_TRY(const auto bytes, input_.next());
                if (bytes.empty()) break;
                stream_.next_in = reinterpret_cast<Bytef*>(const_cast<std::byte*>(bytes.data()));
                stream_.avail_in = static_cast<uInt>(bytes.size());
            }
            if (to_skip_ > 0) {
                const uInt part = std::min(to_skip_, stream_.avail_in);
                stream_.next_in += part;
                stream_.avail_in -= part;
                to_skip_ -= part;
                continue;
            }
            const int done = inflate(&stream_, between_blocks ? Z_BLOCK : Z_NO_FLUSH);
            if (done == Z_STREAM_END || stream_.total_out > 0) is_whole_ = done == Z_STREAM_END;
            if (done == Z_STREAM_END) {
                // Another member may follow; behind raw deflate data stand its checksum and length first.
                if (is_raw_) to_skip_ = 8;
                is_raw_ = false;
                const Bytef* const in = stream_.next_in;
                const uInt left = stream_.avail_in;
                if (inflateReset2(&stream_, kGzip) != Z_OK) break;
                stream_.next_in = const_cast<Bytef*>(in);
                stream_.avail_in = left;
                if (between_blocks && to_skip_ == 0) between_blocks(stream_, position(), true);
                continue;
            }
            if (done == Z_DATA_ERROR && stream_.total_out == 0 && !is_raw_) {
                ended_ = true;  // zeros or anything else behind the last member
                break;
            }
            if (done != Z_OK && done != Z_BUF_ERROR) {
                const std::size_t out = into.size() - stream_.avail_out;
                ended_ = true;
                if (out > 0) return out;
                return fail(ErrorKind::not_understood, "the packed image is damaged");
            }
            constexpr int kBetween = 128, kLastBlock = 64;
            if (between_blocks && (stream_.data_type & kBetween) != 0 && (stream_.data_type & kLastBlock) == 0)
                between_blocks(stream_, position(), false);
        }
        return into.size() - stream_.avail_out;
    }

    // So far the last member that was begun is complete.
    bool is_whole() const { return is_whole_; }

  private:
    std::uint64_t position() const { return input_.position() - stream_.avail_in; }

    PackedInput input_;
    z_stream stream_{};
    uInt to_skip_ = 0;
    bool is_ready_ = false;
    bool is_whole_ = false;
    bool is_raw_ = false;
    bool ended_ = false;
};

struct GzipIndex {
    std::vector<PackedUnit> units;
    bool is_whole;
};

// One pass over all of it.
GzipIndex index_of(const FilePtr& file) {
    std::vector<PackedUnit> units = {{}};
    std::uint64_t spacing = kFirstSpacing, done = 0;
    std::vector<std::byte> piece(256 << 10);
    Inflater inflater(file, units.front());
    inflater.between_blocks = [&](const z_stream& stream, std::uint64_t position, bool begins_member) {
        const std::uint64_t at = done + (piece.size() - stream.avail_out);
        if (at < units.back().start + spacing) return;
        PackedUnit unit{position, at, 0, 0, {}};
        if (!begins_member) {
            unit.detail = kInMember | static_cast<unsigned>(stream.data_type & 7);
            unit.window.resize(kWindow);
            uInt length = 0;
            auto* copy = const_cast<z_stream*>(&stream);
            if (inflateGetDictionary(copy, reinterpret_cast<Bytef*>(unit.window.data()), &length) != Z_OK) return;
            unit.window.resize(length);
        }
        units.push_back(std::move(unit));
        if (units.size() <= kMaxUnits) return;
        for (std::size_t i = 1; 2 * i < units.size(); ++i) units[i] = std::move(units[2 * i]);
        units.resize((units.size() + 1) / 2);
        spacing *= 2;
    };
    while (true) {
        const auto got = inflater.next(piece);
        if (!got || *got == 0) break;
        done += *got;
    }
    for (std::size_t i = 0; i < units.size(); ++i)
        units[i].length = (i + 1 < units.size() ? units[i + 1].start : done) - units[i].start;
    std::erase_if(units, [](const PackedUnit& unit) { return unit.length == 0; });
    return {std::move(units), inflater.is_whole()};
}

}  // namespace

Result<MediumPtr> open_gzip(const FilePtr& file, Opening& opening) {
    constexpr std::size_t kShortest = 18;  // bytes: header and trailer
    if (file->size() < kShortest) return nullptr;
    DREDGER_TRY(const auto head, file->bytes(0, 3));
    if (!ByteView(head).has(0, "\x1F\x8B\x08")) return nullptr;
    auto [units, is_whole] = index_of(file);
    if (!is_whole) opening.note("the packed image is cut short or damaged; what comes out of it is read");
    if (units.empty()) return fail(ErrorKind::not_understood, "nothing comes out of the packed image", file->name());
    return std::make_shared<PackedStream>(file->name(), std::move(units),
                                          [file](const PackedUnit& unit) -> Result<std::unique_ptr<Unpacker>> {
                                              return std::make_unique<Inflater>(file, unit);
                                          });
}

}  // namespace dredger::images

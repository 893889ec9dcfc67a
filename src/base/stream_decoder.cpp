#include "base/stream_decoder.h"

#include <algorithm>
#include <array>
#include <bzlib.h>
#include <lzma.h>
#include <zlib.h>
#include <zstd.h>

namespace dredger {
namespace {

constexpr std::uint64_t kMaxMemory = 80 << 20;      // bytes that a stream may ask for to be unpacked
constexpr std::uint32_t kMaxDictionary = 64 << 20;  // bytes that references reach back at most

using State = StreamDecoder::State;

}  // namespace

struct StreamDecoder::Stream {
    virtual ~Stream() = default;
    // Reads from the front of `in` and writes to the front of `out`, and shortens both.
    virtual State step(std::span<const std::byte>& in, std::span<std::byte>& out) = 0;
    // Null: it can't be copied.
    virtual std::unique_ptr<Stream> copy() const { return nullptr; }
};

namespace {

class Deflate final : public StreamDecoder::Stream {
  public:
    explicit Deflate(int window_bits) { ready_ = inflateInit2(&z_, window_bits) == Z_OK; }
    ~Deflate() override { inflateEnd(&z_); }
    State step(std::span<const std::byte>& in, std::span<std::byte>& out) override {
        if (!ready_) return State::failed;
        z_.next_in = reinterpret_cast<Bytef*>(const_cast<std::byte*>(in.data()));
        z_.avail_in = static_cast<uInt>(in.size());
        z_.next_out = reinterpret_cast<Bytef*>(out.data());
        z_.avail_out = static_cast<uInt>(out.size());
        const int code = inflate(&z_, Z_NO_FLUSH);
        in = in.last(z_.avail_in);
        out = out.last(z_.avail_out);
        return code == Z_STREAM_END ? State::ended : code == Z_OK || code == Z_BUF_ERROR ? State::going : State::failed;
    }

    std::unique_ptr<Stream> copy() const override {
        std::unique_ptr<Deflate> copy(new Deflate);
        copy->ready_ = ready_ && inflateCopy(&copy->z_, const_cast<z_stream*>(&z_)) == Z_OK;
        return copy;
    }

  private:
    Deflate() = default;
    z_stream z_{};
    bool ready_ = false;
};

class Bzip2 final : public StreamDecoder::Stream {
  public:
    Bzip2() { ready_ = BZ2_bzDecompressInit(&b_, 0, 0) == BZ_OK; }
    ~Bzip2() override { BZ2_bzDecompressEnd(&b_); }
    State step(std::span<const std::byte>& in, std::span<std::byte>& out) override {
        if (!ready_) return State::failed;
        b_.next_in = reinterpret_cast<char*>(const_cast<std::byte*>(in.data()));
        b_.avail_in = static_cast<unsigned>(in.size());
        b_.next_out = reinterpret_cast<char*>(out.data());
        b_.avail_out = static_cast<unsigned>(out.size());
        const int code = BZ2_bzDecompress(&b_);
        in = in.last(b_.avail_in);
        out = out.last(b_.avail_out);
        return code == BZ_STREAM_END ? State::ended : code == BZ_OK ? State::going : State::failed;
    }

  private:
    bz_stream b_{};
    bool ready_ = false;
};

class Xz final : public StreamDecoder::Stream {
  public:
    Xz() { ready_ = lzma_stream_decoder(&x_, kMaxMemory, 0) == LZMA_OK; }
    // Of what stands within a stream only.
    explicit Xz(lzma_vli filter) {
        lzma_options_lzma options{};
        lzma_lzma_preset(&options, LZMA_PRESET_DEFAULT);
        options.dict_size = kMaxDictionary;
        const lzma_filter filters[] = {{filter, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
        ready_ = lzma_raw_decoder(&x_, filters) == LZMA_OK;
    }
    ~Xz() override { lzma_end(&x_); }
    State step(std::span<const std::byte>& in, std::span<std::byte>& out) override {
        if (!ready_) return State::failed;
        x_.next_in = reinterpret_cast<const std::uint8_t*>(in.data());
        x_.avail_in = in.size();
        x_.next_out = reinterpret_cast<std::uint8_t*>(out.data());
        x_.avail_out = out.size();
        const lzma_ret code = lzma_code(&x_, LZMA_RUN);
        in = in.last(x_.avail_in);
        out = out.last(x_.avail_out);
        return code == LZMA_STREAM_END                     ? State::ended
               : code == LZMA_OK || code == LZMA_BUF_ERROR ? State::going
                                                           : State::failed;
    }

  private:
    lzma_stream x_ = LZMA_STREAM_INIT;
    bool ready_ = false;
};

class Zstd final : public StreamDecoder::Stream {
  public:
    Zstd() : d_(ZSTD_createDCtx()) { ZSTD_DCtx_setParameter(d_, ZSTD_d_windowLogMax, 27); }
    ~Zstd() override { ZSTD_freeDCtx(d_); }
    State step(std::span<const std::byte>& in, std::span<std::byte>& out) override {
        ZSTD_inBuffer from{in.data(), in.size(), 0};
        ZSTD_outBuffer to{out.data(), out.size(), 0};
        const std::size_t code = ZSTD_decompressStream(d_, &to, &from);
        in = in.subspan(from.pos);
        out = out.subspan(to.pos);
        return ZSTD_isError(code) != 0U ? State::failed : code == 0 ? State::ended : State::going;
    }

  private:
    ZSTD_DCtx* d_;
};

std::unique_ptr<StreamDecoder::Stream> stream_for(Packing packing) {
    switch (packing) {
        case Packing::none:
        case Packing::unknown: return nullptr;
        case Packing::deflate: return std::make_unique<Deflate>(-15);
        case Packing::zlib: return std::make_unique<Deflate>(15);
        case Packing::gzip: return std::make_unique<Deflate>(15 + 16);
        case Packing::bzip2: return std::make_unique<Bzip2>();
        case Packing::xz: return std::make_unique<Xz>();
        case Packing::lzma: return std::make_unique<Xz>(LZMA_FILTER_LZMA1);
        case Packing::lzma2: return std::make_unique<Xz>(LZMA_FILTER_LZMA2);
        case Packing::zstd: break;
    }
    return std::make_unique<Zstd>();
}

}  // namespace

StreamDecoder::StreamDecoder(Packing packing) : stream_(stream_for(packing)) {}
StreamDecoder::StreamDecoder(std::unique_ptr<Stream> stream) : stream_(std::move(stream)) {}
StreamDecoder::~StreamDecoder() = default;
StreamDecoder::StreamDecoder(StreamDecoder&&) noexcept = default;
StreamDecoder& StreamDecoder::operator=(StreamDecoder&&) noexcept = default;

std::optional<StreamDecoder> StreamDecoder::copy() const {
    auto stream = stream_ ? stream_->copy() : nullptr;
    return stream ? std::optional(StreamDecoder(std::move(stream))) : std::nullopt;
}

State StreamDecoder::feed(std::span<const std::byte> packed, std::size_t& used,
                          const std::function<void(std::span<const std::byte>)>& visit) {
    static thread_local std::array<std::byte, 128 << 10> room;
    std::span<const std::byte> in = packed;
    State state = stream_ ? State::going : State::failed;
    used = 0;
    if (!stream_) return state;
    for (;;) {
        std::span<std::byte> out(room);
        const std::size_t before = in.size();
        state = stream_->step(in, out);
        const std::size_t came = room.size() - out.size();
        if (came > 0) visit(std::span<const std::byte>(room).first(came));
        if (state != State::going) break;
        if (in.empty() && came < room.size()) break;
        if (came == 0 && in.size() == before) break;
    }
    used = packed.size() - in.size();
    return state;
}

std::size_t StreamDecoder::decode_all(Packing packing, std::span<const std::byte> packed, std::span<std::byte> into) {
    // A little at a time: of what comes out in a call that fails some codecs do not tell.
    constexpr std::size_t kStep = 1024;  // bytes
    const auto stream = stream_for(packing);
    std::span<std::byte> out = into;
    State state = stream ? State::going : State::failed;
    while (state == State::going && !out.empty()) {
        std::span<const std::byte> in = packed.first(std::min(kStep, packed.size()));
        const std::size_t given = in.size(), room = out.size();
        state = stream->step(in, out);
        packed = packed.subspan(given - in.size());
        if (in.size() == given && out.size() == room) break;
    }
    return into.size() - out.size();
}

}  // namespace dredger

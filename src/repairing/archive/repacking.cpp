#include "repairing/archive/repacking.h"

#include <algorithm>
#include <array>
#include <bzlib.h>
#include <lzma.h>
#include <zlib.h>
#include <zstd.h>

namespace dredger::repairing {

struct Repacking::Packer {
    explicit Packer(Output& to) : output(to) {}
    virtual ~Packer() = default;
    virtual void add(std::string_view bytes, bool is_last) = 0;

    void write(std::size_t length) { output.add(std::string_view(room.data(), length)); }
    Output& output;
    std::array<char, 64 << 10> room{};
};

namespace {

using Packer = Repacking::Packer;

struct Gzip final : Packer {
    explicit Gzip(Output& to) : Packer(to) {
        constexpr int kGzip = 16 + MAX_WBITS, kMemory = 8;
        deflateInit2(&z, Z_DEFAULT_COMPRESSION, Z_DEFLATED, kGzip, kMemory, Z_DEFAULT_STRATEGY);
    }
    ~Gzip() override { deflateEnd(&z); }
    void add(std::string_view bytes, bool is_last) override {
        z.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(bytes.data()));
        z.avail_in = static_cast<uInt>(bytes.size());
        do {
            z.next_out = reinterpret_cast<Bytef*>(room.data());
            z.avail_out = static_cast<uInt>(room.size());
            deflate(&z, is_last ? Z_FINISH : Z_NO_FLUSH);
            write(room.size() - z.avail_out);
        } while (z.avail_out == 0);
    }
    z_stream z{};
};

struct Bzip2 final : Packer {
    explicit Bzip2(Output& to) : Packer(to) { BZ2_bzCompressInit(&b, 9, 0, 0); }
    ~Bzip2() override { BZ2_bzCompressEnd(&b); }
    void add(std::string_view bytes, bool is_last) override {
        b.next_in = const_cast<char*>(bytes.data());
        b.avail_in = static_cast<unsigned>(bytes.size());
        int state = BZ_RUN_OK;
        do {
            b.next_out = room.data();
            b.avail_out = static_cast<unsigned>(room.size());
            state = BZ2_bzCompress(&b, is_last ? BZ_FINISH : BZ_RUN);
            write(room.size() - b.avail_out);
        } while (is_last ? state == BZ_FINISH_OK : b.avail_in > 0 && state == BZ_RUN_OK);
    }
    bz_stream b{};
};

struct Xz final : Packer {
    explicit Xz(Output& to) : Packer(to) {
        constexpr std::uint32_t kLevel = 2;  // little memory
        is_ready = lzma_easy_encoder(&x, kLevel, LZMA_CHECK_CRC64) == LZMA_OK;
    }
    ~Xz() override { lzma_end(&x); }
    void add(std::string_view bytes, bool is_last) override {
        x.next_in = reinterpret_cast<const std::uint8_t*>(bytes.data());
        x.avail_in = bytes.size();
        lzma_ret state = is_ready ? LZMA_OK : LZMA_PROG_ERROR;
        while (state == LZMA_OK && (is_last || x.avail_in > 0)) {
            x.next_out = reinterpret_cast<std::uint8_t*>(room.data());
            x.avail_out = room.size();
            state = lzma_code(&x, is_last ? LZMA_FINISH : LZMA_RUN);
            write(room.size() - x.avail_out);
        }
    }
    lzma_stream x = LZMA_STREAM_INIT;
    bool is_ready = false;
};

struct Zstandard final : Packer {
    explicit Zstandard(Output& to) : Packer(to), stream(ZSTD_createCStream()) {
        ZSTD_CCtx_setParameter(stream, ZSTD_c_checksumFlag, 1);
    }
    ~Zstandard() override { ZSTD_freeCStream(stream); }
    void add(std::string_view bytes, bool is_last) override {
        ZSTD_inBuffer in{bytes.data(), bytes.size(), 0};
        for (bool is_done = false; !is_done;) {
            ZSTD_outBuffer out{room.data(), room.size(), 0};
            const std::size_t left = ZSTD_compressStream2(stream, &out, &in, is_last ? ZSTD_e_end : ZSTD_e_continue);
            write(out.pos);
            is_done = ZSTD_isError(left) != 0 || (is_last ? left == 0 : in.pos == in.size);
        }
    }
    ZSTD_CStream* stream;
};

std::unique_ptr<Packer> packer_for(Packing packing, Output& output) {
    switch (packing) {
        case Packing::bzip2: return std::make_unique<Bzip2>(output);
        case Packing::xz: return std::make_unique<Xz>(output);
        case Packing::zstd: return std::make_unique<Zstandard>(output);
        default: return std::make_unique<Gzip>(output);
    }
}

}  // namespace

Repacking::Repacking(Packing packing, Output& output) : packer_(packer_for(packing, output)) {}
Repacking::~Repacking() = default;

void Repacking::add(std::string_view bytes) {
    constexpr std::size_t kPiece = 1 << 20;  // what every library can take at once
    for (; !bytes.empty(); bytes.remove_prefix(std::min(bytes.size(), kPiece)))
        packer_->add(bytes.substr(0, kPiece), false);
}

void Repacking::finish() { packer_->add({}, true); }

}  // namespace dredger::repairing

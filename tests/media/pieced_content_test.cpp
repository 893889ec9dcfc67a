// Extents that are packed each by itself, packed here with the libraries that Linux packs with.
#include "media/pieced_content.h"

#include <gtest/gtest.h>
#include <lzo/lzo1x.h>
#include <zlib.h>
#include <zstd.h>

#include "media/content.h"
#include "support/support.h"

namespace dredger {
namespace {

std::string log_of(std::size_t size) {
    std::string text;
    for (int n = 0; text.size() < size; ++n)
        text += "tide " + std::to_string(std::int64_t{n} * 7919 % 1'000'003) + " cm\n";
    text.resize(size);
    return text;
}

std::string packed_zlib(const std::string& text) {
    std::string packed(compressBound(static_cast<uLong>(text.size())), '\0');
    auto size = static_cast<uLongf>(packed.size());
    compress2(reinterpret_cast<Bytef*>(packed.data()), &size, reinterpret_cast<const Bytef*>(text.data()),
              static_cast<uLong>(text.size()), 6);
    packed.resize(size);
    return packed;
}

std::string packed_zstd(const std::string& text) {
    std::string packed(ZSTD_compressBound(text.size()), '\0');
    packed.resize(ZSTD_compress(packed.data(), packed.size(), text.data(), text.size(), 3));
    return packed;
}

// A piece for each 4 KiB, none of whose lengths crosses a sector's end.
std::string packed_lzo(const std::string& text) {
    std::string packed(4, '\0');
    const auto put = [&](std::size_t at, std::size_t value) {
        for (unsigned i = 0; i < 4; ++i) packed[at + i] = static_cast<char>(value >> 8 * i);
    };
    std::vector<unsigned char> work(LZO1X_1_MEM_COMPRESS);
    for (std::size_t at = 0; at < text.size(); at += 4096) {
        std::string piece(4096 + 4096 / 16 + 67, '\0');
        lzo_uint size = piece.size();
        lzo1x_1_compress(reinterpret_cast<const unsigned char*>(text.data() + at),
                         std::min<std::size_t>(4096, text.size() - at), reinterpret_cast<unsigned char*>(piece.data()),
                         &size, work.data());
        if (4096 - packed.size() % 4096 < 4) packed.resize((packed.size() + 4095) / 4096 * 4096);
        packed.resize(packed.size() + 4);
        put(packed.size() - 4, size);
        packed += piece.substr(0, size);
    }
    put(0, packed.size());
    return packed;
}

std::string read(const Medium& content, std::uint64_t from, std::size_t length, std::vector<Extent>* bad = nullptr) {
    std::vector<std::byte> bytes(length);
    std::vector<Extent> ignored;
    EXPECT_TRUE(content.read(from, bytes, bad != nullptr ? bad : &ignored));
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

class Pieced : public testing::TestWithParam<Pack::Method> {
  protected:
    static std::string packed(const std::string& text) {
        return GetParam() == Pack::Method::zlib   ? packed_zlib(text)
               : GetParam() == Pack::Method::zstd ? packed_zstd(text)
                                                  : packed_lzo(text);
    }
    static Pack pack(std::uint32_t skip, std::size_t unpacked, std::size_t content) {
        return {GetParam(), skip, static_cast<std::uint32_t>(unpacked), static_cast<std::uint32_t>(content)};
    }
};

TEST_P(Pieced, ReadsAcrossPackedAndPlainExtents) {
    const std::string first = log_of(100'000), second = "plain bytes";
    const std::string stored = packed(first);
    const std::size_t room = (stored.size() + 4095) / 4096 * 4096;  // zeros follow
    std::string medium = stored;
    medium.resize(room);
    medium += second;
    Layout layout;
    layout.codec = Codec::each;
    layout.extents = {{0, room}, Extent::zeros(5), {room, second.size()}};
    // A part of what comes out belongs to the file.
    layout.extents.front().pack = pack(1'000, first.size(), 90'000);
    const auto content =
        open_content(std::make_shared<test::MemoryMedium>(test::bytes_of(medium)), layout, 90'000 + 5 + second.size());
    ASSERT_EQ(content->size(), 90'005 + second.size());
    std::vector<Extent> bad;
    const std::string whole = read(*content, 0, static_cast<std::size_t>(content->size()), &bad);
    EXPECT_TRUE(bad.empty());
    EXPECT_EQ(whole, first.substr(1'000, 90'000) + std::string(5, '\0') + second);
    EXPECT_EQ(read(*content, 89'990, 20), whole.substr(89'990, 20));
    EXPECT_EQ(read(*content, 4'090, 10), whole.substr(4'090, 10));
}

TEST_P(Pieced, WhatIsDamagedIsReportedFromThereOn) {
    const std::string first = log_of(400'000);  // Zstandard gives blocks of 128 KiB, each whole or not at all
    std::string stored = packed(first);
    // From the middle on something else stands there.
    for (std::size_t i = stored.size() / 2; i < stored.size(); ++i) stored[i] = static_cast<char>(i * 7 + 1);
    Layout layout;
    layout.codec = Codec::each;
    layout.extents = {{0, stored.size()}};
    layout.extents.front().pack = pack(0, first.size(), first.size());
    const auto content =
        open_content(std::make_shared<test::MemoryMedium>(test::bytes_of(stored)), layout, first.size());
    std::vector<Extent> bad;
    const std::string whole = read(*content, 0, first.size(), &bad);
    // Where no checksum tells, what comes out may be as long and wrong; it is never longer.
    for (const Extent& lost : bad) EXPECT_LE(lost.end(), first.size());
    EXPECT_EQ(whole.substr(0, 1'000), first.substr(0, 1'000));
}

TEST_P(Pieced, NothingIsUnpackedFromBehindTheMedium) {
    Layout layout;
    layout.codec = Codec::each;
    layout.extents = {{4096, 8192}, Extent::unknown(4096)};
    layout.extents.front().pack = pack(0, 4096, 4096);
    layout.extents.back().pack = pack(0, ~std::uint32_t{0}, 4096);
    const auto content = open_content(std::make_shared<test::MemoryMedium>(std::vector<std::byte>(8192)), layout, 8192);
    std::vector<Extent> bad;
    read(*content, 0, 8192, &bad);
    std::uint64_t lost = 0;
    for (const Extent& extent : bad) lost += extent.length;
    EXPECT_EQ(lost, 8192U);
}

INSTANTIATE_TEST_SUITE_P(Codecs, Pieced, testing::Values(Pack::Method::zlib, Pack::Method::lzo, Pack::Method::zstd));

}  // namespace
}  // namespace dredger

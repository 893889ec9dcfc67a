#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "media/content.h"
#include "media/lznt1.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

std::vector<std::byte> bytes(std::initializer_list<unsigned> values) {
    std::vector<std::byte> out;
    for (const unsigned v : values) out.push_back(static_cast<std::byte>(v));
    return out;
}

std::string text_of(const std::vector<std::byte>& from) {
    return {reinterpret_cast<const char*>(from.data()), from.size()};
}

// A packed chunk: its header and a body.
std::vector<std::byte> chunk(std::vector<std::byte> body) {
    const auto header = static_cast<std::uint16_t>(0xB000U | (body.size() - 1));
    body.insert(body.begin(), {static_cast<std::byte>(header & 0xFFU), static_cast<std::byte>(header >> 8U)});
    return body;
}

TEST(Lznt1, LiteralsAndCopies) {
    // "ab", then six bytes from two back: a run that repeats what it writes.
    const auto packed = chunk(bytes({0x04, 'a', 'b', 0x03, 0x10}));
    std::vector<std::byte> out(4096, std::byte{0xEE});
    EXPECT_EQ(lznt1_unpack(ByteView(packed), out), 4096U);
    EXPECT_EQ(text_of(out).substr(0, 9), std::string("abababab\0", 9));
}

TEST(Lznt1, ChunksThatWereNotPackedAreCopied) {
    std::vector<std::byte> packed = bytes({0xFF, 0x3F});
    packed.resize(2 + 4096, std::byte{'x'});
    std::vector<std::byte> out(8192);
    EXPECT_EQ(lznt1_unpack(ByteView(packed), out), 8192U);
    EXPECT_EQ(out[4095], std::byte{'x'});
    EXPECT_EQ(out[4096], std::byte{0}) << "what is not there was zeros";
}

TEST(Lznt1, DistancesNeedMoreBitsFurtherOn) {
    std::vector<std::byte> body;
    std::string expected;
    for (unsigned n = 0; n < 3; ++n) {
        body.push_back(std::byte{0});
        for (unsigned i = 0; i < 8; ++i) {
            body.push_back(static_cast<std::byte>('a' + n * 8 + i));
            expected += static_cast<char>('a' + n * 8 + i);
        }
    }
    // 24 bytes on, five bits tell the distance: back 24, three bytes.
    for (const unsigned b : {0x01U, 0x00U, 0xB8U}) body.push_back(static_cast<std::byte>(b));
    std::vector<std::byte> out(4096);
    EXPECT_EQ(lznt1_unpack(ByteView(chunk(body)), out), 4096U);
    EXPECT_EQ(text_of(out).substr(0, 27), expected + "abc");
}

TEST(Lznt1, NonsenseEndsAtItsChunk) {
    auto packed = chunk(bytes({0x00, 'o', 'k'}));
    const auto broken = chunk(bytes({0x01, 0x00, 0x10}));
    packed.insert(packed.end(), broken.begin(), broken.end());
    std::vector<std::byte> out(65'536, std::byte{0xEE});
    EXPECT_EQ(lznt1_unpack(ByteView(packed), out), 4096U) << "a copy from before the chunk";
    EXPECT_EQ(out[5000], std::byte{0});
    EXPECT_EQ(lznt1_unpack(ByteView(bytes({0x34, 0x12})), out), 0U) << "no signature";
    EXPECT_EQ(lznt1_unpack(ByteView(bytes({0xFF, 0xBF, 'x'})), out), 0U) << "cut short";
    EXPECT_EQ(lznt1_unpack(ByteView(), out), 65'536U) << "nothing stands for zeros";
    // A copy longer than the chunk has room for.
    EXPECT_EQ(lznt1_unpack(ByteView(chunk(bytes({0x06, 'a', 0xFF, 0x0F, 0xFF, 0x0F}))), out), 0U);
}

class PackedContentTest : public testing::Test {
  protected:
    static constexpr std::uint32_t kUnit = 8192;

    std::unique_ptr<Medium> content(std::uint64_t size) {
        auto packed = chunk(bytes({0x02, 'n', 0xFC, 0x0F}));  // 4096 times n
        packed.resize(4096);
        std::vector<std::byte> stored(3 * 4096, std::byte{'s'});
        std::copy(packed.begin(), packed.end(), stored.begin());
        medium_ = std::make_shared<test::MemoryMedium>(stored);
        layout_.codec = Codec::lznt1;
        layout_.unit = kUnit;
        layout_.extents = {{0, 4096}, Extent::zeros(4096), Extent::zeros(8192), {4096, 8192}};
        return open_content(medium_, layout_, size);
    }
    std::shared_ptr<test::MemoryMedium> medium_;
    Layout layout_;
};

TEST_F(PackedContentTest, UnitsArePackedZerosOrStored) {
    const auto whole = content(20'000);
    EXPECT_EQ(whole->size(), 20'000U);
    std::vector<std::byte> out(20'000);
    std::vector<Extent> bad;
    ASSERT_TRUE(whole->read(0, out, &bad));
    EXPECT_THAT(bad, IsEmpty());
    EXPECT_EQ(out[4095], std::byte{'n'});
    EXPECT_EQ(out[4096], std::byte{0});
    EXPECT_EQ(out[10'000], std::byte{0});
    EXPECT_EQ(out[16'384], std::byte{'s'});
    // From the middle, across a unit's end.
    ASSERT_TRUE(whole->read(16'380, std::span(out).first(8), &bad));
    EXPECT_EQ(out[3], std::byte{0});
    EXPECT_EQ(out[4], std::byte{'s'});
}

TEST_F(PackedContentTest, WhatCanNotBeUnpackedIsReported) {
    auto whole = content(20'000);
    medium_->patch(0, 0x11);
    std::vector<std::byte> out(20'000);
    std::vector<Extent> bad;
    ASSERT_TRUE(whole->read(0, out, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{0, 8192}));
}

TEST_F(PackedContentTest, UnreadablePartsCostLittleWhereNothingIsPacked) {
    auto whole = content(20'000);
    // The unit that is stored as it is begins at byte 16,384 of the content and at 4,096 of the medium.
    medium_->make_unreadable({4608, 512});
    std::vector<std::byte> out(20'000);
    std::vector<Extent> bad;
    ASSERT_TRUE(whole->read(0, out, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{16'896, 512}));
    // Of a packed one nothing behind the place can be had.
    medium_->make_unreadable({0, 512});
    bad.clear();
    ASSERT_TRUE(whole->read(0, out, &bad));
    ASSERT_FALSE(bad.empty());
}

TEST(Content, ZerosByDefinitionAreGoodAndHolesAreNot) {
    const auto medium = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(100, std::byte{'x'}));
    const Content content(medium, {{0, 10}, Extent::zeros(10), Extent::unknown(10), {50, 10}});
    std::vector<std::byte> out(40);
    std::vector<Extent> bad;
    ASSERT_TRUE(content.read(0, out, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{20, 10}));
    EXPECT_EQ(content.stored_bytes_in(0, 40), 30U);
}

}  // namespace
}  // namespace dredger

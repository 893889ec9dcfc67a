#include "formats/reader.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

// Long enough for several windows; every byte tells its place.
test::MemoryMedium counting(std::size_t size) {
    std::vector<std::byte> bytes(size);
    for (std::size_t i = 0; i < size; ++i) bytes[i] = static_cast<std::byte>(i * 31 + i / 251);
    return test::MemoryMedium(std::move(bytes));
}

TEST(Reader, NumbersAcrossWindowsAreThoseOfTheMedium) {
    const auto medium = counting(300'000);
    Reader reader(medium, 3);
    for (const std::uint64_t at : {0UL, 4090UL, 65530UL, 131069UL, 200'000UL, 299'990UL, 65533UL}) {
        const ByteView view(medium.bytes(at + 3, 4).value());
        const auto bytes = medium.bytes(at + 3, 4).value();
        EXPECT_EQ(reader.u32le(at), ByteView(bytes).u32le(0).value()) << at;
        EXPECT_EQ(reader.u32be(at), __builtin_bswap32(ByteView(bytes).u32le(0).value())) << at;
        EXPECT_EQ(reader.u24be(at), reader.u32be(at) >> 8) << at;
    }
}

TEST(Reader, BehindTheEndStandZeros) {
    const auto medium = counting(100);
    Reader reader(medium);
    EXPECT_EQ(reader.u64le(100), 0U);
    EXPECT_EQ(reader.u16le(99), reader.u8(99));
    EXPECT_EQ(reader.u8(~std::uint64_t{0}), 0U);
    EXPECT_FALSE(reader.holds(~std::uint64_t{0}, 2));
    EXPECT_TRUE(reader.some(100).empty());
    EXPECT_EQ(reader.text(90, 50).size(), 10U);
    EXPECT_FALSE(reader.is_zeros(90, 120));
}

TEST(Reader, FindsBytesThatLieAcrossWindows) {
    std::string text(200'000, '.');
    for (const std::size_t at : {65530UL, 131070UL, 199'990UL}) text.replace(at, 8, "ringlogs");
    const test::MemoryMedium medium(test::bytes_of(text));
    Reader reader(medium);
    EXPECT_EQ(reader.find("ringlogs", 0, 200'000), 65530U);
    EXPECT_EQ(reader.find("ringlogs", 65531, 200'000), 131070U);
    EXPECT_EQ(reader.find("ringlogs", 131071, 199'997), std::nullopt);
    EXPECT_EQ(reader.find_last("ringlogs", 0, 200'000), 199'990U);
    EXPECT_EQ(reader.find_last("ringlogs", 0, 199'997), 131070U);
    EXPECT_EQ(reader.find_last("nothing", 0, 200'000), std::nullopt);
}

TEST(Reader, TellsSectorsThatNoPackedDataHas) {
    std::vector<std::byte> bytes(4096, std::byte{0x9A});
    std::fill_n(bytes.begin() + 1500, 1100, std::byte{0x20});
    const test::MemoryMedium medium(std::move(bytes));
    Reader reader(medium);
    EXPECT_EQ(reader.first_plain_sector(0, 4096), 1536U);
    EXPECT_EQ(reader.first_plain_sector(1537, 4096), 2048U);
    EXPECT_EQ(reader.first_plain_sector(2049, 4096), std::nullopt);
}

}  // namespace
}  // namespace dredger

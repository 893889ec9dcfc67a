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
    Budget budget;
    Reader reader(medium, budget, 3);
    for (const std::uint64_t at : {0UL, 4090UL, 65530UL, 131069UL, 200'000UL, 299'990UL, 65533UL}) {
        const ByteView view(medium.bytes(at + 3, 4).value());
        const auto bytes = medium.bytes(at + 3, 4).value();
        EXPECT_EQ(reader.u32le(at), ByteView(bytes).u32le(0).value()) << at;
        EXPECT_EQ(reader.u32be(at), __builtin_bswap32(ByteView(bytes).u32le(0).value())) << at;
        EXPECT_EQ(reader.u24be(at), reader.u32be(at) >> 8) << at;
    }
}

TEST(Reader, QuestionsMayReachBehindTheEnd) {
    const auto medium = counting(100);
    Budget budget;
    Reader reader(medium, budget);
    EXPECT_FALSE(reader.holds(~std::uint64_t{0}, 2));
    EXPECT_FALSE(reader.has(98, "abc"));
    EXPECT_TRUE(reader.some(100).empty());
    EXPECT_EQ(reader.text(90, 50).size(), 10U);
    EXPECT_FALSE(reader.is_zeros(90, 120));
    EXPECT_EQ(reader.find("nothing", 0, 200), std::nullopt);
    EXPECT_TRUE(reader.ok());
}

TEST(Reader, ANumberBehindTheEndSpoilsIt) {
    const auto medium = counting(100);
    for (const std::uint64_t at : {100UL, 99UL, ~std::uint64_t{0}}) {
        Budget budget;
        Reader reader(medium, budget);
        (void)reader.u16le(at);
        EXPECT_EQ(reader.trouble(), Reader::Trouble::past_end) << at;
        EXPECT_EQ(reader.trouble_at(), std::max<std::uint64_t>(at, 100));
        // What is there can be read all the same.
        EXPECT_EQ(reader.u8(5), std::to_integer<unsigned>(medium.bytes(5, 1).value().front()));
        EXPECT_FALSE(reader.ok());
    }
}

TEST(Reader, WhatCannotBeReadSpoilsItOnlyWhereItIsAskedFor) {
    auto medium = counting(4096);
    medium.make_unreadable({1024, 512});
    Budget budget;
    Reader reader(medium, budget);
    (void)reader.u32le(1020);
    EXPECT_EQ(reader.some(1000).size(), 24U);
    EXPECT_EQ(reader.some(1536).size(), 4096U - 1536);
    EXPECT_TRUE(reader.ok());
    EXPECT_EQ(reader.text(1000, 500).size(), 24U);
    EXPECT_EQ(reader.trouble(), Reader::Trouble::unreadable);
    EXPECT_EQ(reader.trouble_at(), 1024U);

    Reader numbers(medium, budget);
    (void)numbers.u32le(1022);
    EXPECT_EQ(numbers.trouble(), Reader::Trouble::unreadable);
}

TEST(Reader, NothingIsReadWhenTheBudgetIsSpent) {
    const auto medium = counting(300'000);
    Budget steps({10, 0, 1 << 20, 0});
    Reader reader(medium, steps);
    for (unsigned i = 0; i < 10; ++i) (void)reader.u8(i);
    EXPECT_TRUE(steps.is_spent());
    EXPECT_EQ(reader.u8(3), 0U);
    EXPECT_TRUE(reader.some(3).empty());
    EXPECT_EQ(reader.trouble(), Reader::Trouble::gave_up);

    Budget bytes({1 << 20, 16, 64 << 10, 0});
    Reader far(medium, bytes);
    for (const std::uint64_t at : {0UL, 70'000UL, 140'000UL}) (void)far.u8(at);
    EXPECT_EQ(far.trouble(), Reader::Trouble::gave_up);

    bool stop = false;
    Budget stoppable([&] { return stop; });
    Reader patient(medium, stoppable);
    EXPECT_FALSE(patient.some(0).empty());
    stop = true;
    (void)patient.some(100'000);
    EXPECT_TRUE(stoppable.was_stopped());
    EXPECT_EQ(patient.trouble(), Reader::Trouble::gave_up);
}

TEST(Reader, ContentThatExistsCanBeReadManyTimes) {
    const auto medium = counting(3 << 20);
    Budget budget;
    Reader reader(medium, budget);
    for (unsigned pass = 0; pass < 60; ++pass)
        for (std::uint64_t at = 0; at < medium.size(); at += 4) (void)reader.u32le(at);
    EXPECT_TRUE(reader.ok());
}

TEST(Reader, FindsBytesThatLieAcrossWindows) {
    std::string text(200'000, '.');
    for (const std::size_t at : {65530UL, 131070UL, 199'990UL}) text.replace(at, 8, "ringlogs");
    const test::MemoryMedium medium(test::bytes_of(text));
    Budget budget;
    Reader reader(medium, budget);
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
    Budget budget;
    Reader reader(medium, budget);
    EXPECT_EQ(reader.first_plain_sector(0, 4096), 1536U);
    EXPECT_EQ(reader.first_plain_sector(1537, 4096), 2048U);
    EXPECT_EQ(reader.first_plain_sector(2049, 4096), std::nullopt);
}

}  // namespace
}  // namespace dredger

#include "formats/jpeg_bits.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger::formats {
namespace {

// Content of `bytes`, and its bits from the start.
struct Bits {
    explicit Bits(const std::vector<std::uint8_t>& bytes)
        : medium(as_bytes(bytes)), reader(medium, budget), bits(reader, 0) {}
    static std::vector<std::byte> as_bytes(const std::vector<std::uint8_t>& bytes) {
        std::vector<std::byte> content(bytes.size());
        std::transform(bytes.begin(), bytes.end(), content.begin(), [](std::uint8_t b) { return std::byte{b}; });
        return content;
    }
    test::MemoryMedium medium;
    Budget budget;
    Reader reader;
    JpegBits bits;
};

TEST(JpegBits, ComeHighestFirst) {
    Bits here({0xA5, 0x3C, 0x01, 0xFF, 0xD9});
    EXPECT_EQ(here.bits.take(4), 0xAU);
    EXPECT_EQ(here.bits.take(1), 0U);
    EXPECT_EQ(here.bits.take(3), 5U);
    EXPECT_EQ(here.bits.peek16(), 0x3C01U);
    EXPECT_EQ(here.bits.take(16), 0x3C01U);
    EXPECT_TRUE(here.bits.at_marker());
    EXPECT_EQ(here.bits.marker_at(), 3U);
    EXPECT_FALSE(here.bits.ended());
}

TEST(JpegBits, AskedForMoreThanThereIsHaveEnded) {
    Bits here({0xA5, 0xFF, 0xD9});
    here.bits.skip(8);
    EXPECT_FALSE(here.bits.ended());
    EXPECT_EQ(here.bits.peek16(), 0U) << "zeros behind the last";
    here.bits.skip(1);
    EXPECT_TRUE(here.bits.ended());
    for (int i = 0; i < 1000; ++i) here.bits.skip(32);
    EXPECT_TRUE(here.bits.ended());
    EXPECT_FALSE(here.bits.at_marker());
}

TEST(JpegBits, LeaveOutWhatIsStuffed) {
    Bits here({0xFF, 0x00, 0x12, 0xFF, 0x00, 0xFF, 0x00, 0x34, 0xFF, 0xFF, 0xD0});
    EXPECT_EQ(here.bits.take(16), 0xFF12U);
    EXPECT_EQ(here.bits.place(), 3U);
    EXPECT_EQ(here.bits.take(16), 0xFFFFU);
    EXPECT_EQ(here.bits.place(), 7U);
    EXPECT_EQ(here.bits.take(8), 0x34U);
    EXPECT_TRUE(here.bits.at_marker()) << "a filling FF before the marker is none itself";
    EXPECT_EQ(here.bits.marker_at(), 9U);
}

TEST(JpegBits, GoOnBehindTheRestartThatIsDue) {
    Bits here({0x12, 0x7F, 0xFF, 0xD2, 0x80, 0xFF, 0xD9});
    here.bits.skip(1);
    EXPECT_FALSE(here.bits.restart(2)) << "there is more than filling before the marker";
    here.bits.skip(8);
    EXPECT_FALSE(here.bits.restart(3));
    EXPECT_TRUE(here.bits.restart(2));
    EXPECT_EQ(here.bits.take(1), 1U);
    EXPECT_EQ(here.bits.place(), 4U);
}

TEST(JpegBits, EndWithTheContent) {
    Bits here({0x12, 0x34, 0xFF});
    EXPECT_EQ(here.bits.take(16), 0x1234U);
    EXPECT_TRUE(here.bits.at_marker()) << "nothing follows the last FF";
    EXPECT_EQ(here.bits.marker_at(), 2U);
    Bits empty({});
    EXPECT_EQ(empty.bits.peek16(), 0U);
    EXPECT_TRUE(empty.bits.at_marker());
}

// Many times what is taken from the content at once, with stuffing at changing places: bit by bit, and as one.
TEST(JpegBits, StayInStepOverAnyLength) {
    std::vector<std::uint8_t> bytes;
    std::vector<std::uint8_t> plain;
    std::uint32_t state = 1;
    while (plain.size() < 100'000) {
        state = state * 1664525U + 1013904223U;
        const auto byte = static_cast<std::uint8_t>(state >> 29 == 0 ? 0xFF : state >> 24);
        plain.push_back(byte);
        bytes.push_back(byte);
        if (byte == 0xFF) bytes.push_back(0);
    }
    bytes.insert(bytes.end(), {0xFF, 0xD9});
    Bits here(bytes);
    std::uint64_t stuffed = 0;
    std::size_t at = 0;
    for (unsigned step = 1; at + 4 < plain.size(); step = step % 4 + 1) {
        std::uint32_t expected = 0;
        for (unsigned i = 0; i < step; ++i) expected = expected << 8 | plain[at + i];
        ASSERT_EQ(here.bits.place(), at + stuffed) << at;
        const std::uint32_t high = step > 2 ? here.bits.take(8 * (step - 2)) : 0;
        ASSERT_EQ(high << 16 | here.bits.take(8 * std::min(step, 2U)), expected) << at;
        for (unsigned i = 0; i < step; ++i) stuffed += plain[at + i] == 0xFF ? 1 : 0;
        at += step;
    }
}

// An inner loop that works with a copy of its own sees the same bits.
TEST(JpegBits, CanBeTakenAway) {
    std::vector<std::uint8_t> bytes(20'000, 0x5A);
    bytes.insert(bytes.end(), {0xFF, 0xD9});
    Bits here(bytes);
    JpegBits::Ahead ahead = here.bits.ahead();
    for (int i = 0; i < 10'000; ++i) {
        ASSERT_TRUE(here.bits.fill(ahead));
        ASSERT_GE(ahead.count, JpegBits::kFilled);
        ASSERT_EQ(ahead.bits >> 48, 0x5A5AU);
        ahead.skip(16);
    }
    here.bits.set_ahead(ahead);
    EXPECT_TRUE(here.bits.at_marker());
    EXPECT_EQ(here.bits.marker_at(), 20'000U);
    EXPECT_EQ(here.bits.place(), 20'000U);
}

}  // namespace
}  // namespace dredger::formats

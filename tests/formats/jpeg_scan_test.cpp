#include "formats/jpeg_scan.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger::formats {
namespace {

// The table for differences of DC coefficients that most encoders use (T.81, K.3.3.1).
JpegHuffman standard_dc() {
    JpegHuffman table;
    EXPECT_TRUE(table.define({0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0}, {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11}));
    return table;
}

// Two codes: "0" ends a block, "10" is one coefficient of one bit.
JpegHuffman small_ac() {
    JpegHuffman table;
    EXPECT_TRUE(table.define({1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, {0x00, 0x01}));
    return table;
}

TEST(JpegHuffman, ReadsCodesOfAnyLength) {
    const JpegHuffman table = standard_dc();
    EXPECT_EQ(table.decode(0b0000'0000'0000'0000).symbol, 0);
    EXPECT_EQ(table.decode(0b0000'0000'0000'0000).bits, 2);
    EXPECT_EQ(table.decode(0b0100'0000'0000'0000).symbol, 1);
    EXPECT_EQ(table.decode(0b1110'0000'0000'0000).symbol, 6);
    EXPECT_EQ(table.decode(0b1111'1111'0000'0000).bits, 9);
    EXPECT_EQ(table.decode(0b1111'1111'0000'0000).symbol, 11);
    EXPECT_EQ(table.decode(0b1111'1111'1000'0000).bits, 0) << "no such code";
}

TEST(JpegHuffman, RefusesWhatIsNoCode) {
    JpegHuffman table;
    EXPECT_FALSE(table.define({3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, {1, 2, 3})) << "three codes of one bit";
    EXPECT_FALSE(table.define({1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, {1})) << "too few symbols";
}

TEST(JpegStrides, EndWithTheBlock) {
    const JpegStrides table = ac_strides(small_ac());
    const auto stride = [&](std::uint32_t peeked) { return table[peeked >> (16 - JpegStride::kLookup)]; };
    EXPECT_EQ(stride(0).bits(), 1U);
    EXPECT_EQ(stride(0).advance(), 0U);
    EXPECT_NE(stride(0).ends(), 0);
    // A coefficient of one bit, then the end; three such coefficients, and a code that is not all there.
    EXPECT_EQ(stride(0b1010'0000'0000'0000).bits(), 4U);
    EXPECT_EQ(stride(0b1010'0000'0000'0000).advance(), 1U);
    EXPECT_NE(stride(0b1010'0000'0000'0000).ends(), 0);
    EXPECT_EQ(stride(0b1011'0010'1110'0000).advance(), 3U);
    EXPECT_EQ(stride(0b1011'0010'1110'0000).ends(), 0);
    EXPECT_TRUE(JpegStride::leads_nowhere(1 + stride(0b1100'0000'0000'0000).advance())) << "no such code";
}

TEST(JpegStrides, StartABlockWithItsDifference) {
    const JpegStrides table = block_strides(standard_dc(), small_ac());
    // "00": no difference; "10 1 0": a coefficient of one bit, and the end.
    const JpegStride stride = table[0b0010'1000'0000'0000 >> (16 - JpegStride::kLookup)];
    EXPECT_EQ(stride.bits(), 6U);
    EXPECT_EQ(stride.advance(), 2U);
    EXPECT_NE(stride.ends(), 0);
    EXPECT_TRUE(JpegStride::leads_nowhere(table.back().advance())) << "nothing but ones: a longer code, or none";
}

// A grey picture of `blocks` blocks in a row.
struct Strip {
    explicit Strip(unsigned blocks) : dc(standard_dc()), ac(small_ac()) {
        component.blocks_across = component.padded_across = blocks;
        component.blocks_down = 1;
        scan.components = {&component};
        scan.dc = {&dc};
        scan.ac = {&ac};
    }
    JpegScanResult decode(const std::vector<std::uint8_t>& bytes) {
        std::vector<std::byte> content;
        for (const std::uint8_t byte : bytes) content.push_back(static_cast<std::byte>(byte));
        const test::MemoryMedium medium(std::move(content));
        Budget budget;
        Reader reader(medium, budget);
        return decode_jpeg_scan(reader, 0, scan);
    }
    JpegHuffman dc, ac;
    JpegComponent component;
    JpegScanHeader scan;
};

// Each block: "00" no difference, "0" no coefficients; the last byte is filled with ones.
TEST(JpegScan, CountsItsBlocks) {
    const std::vector<std::uint8_t> eight = {0x00, 0x00, 0x00, 0xFF, 0xD9};
    EXPECT_TRUE(Strip(8).decode(eight).complete);
    EXPECT_EQ(Strip(8).decode(eight).end, 3U);
    EXPECT_EQ(Strip(8).decode(eight).blocks, 8U);
    EXPECT_FALSE(Strip(9).decode(eight).complete) << "a block is missing";
    EXPECT_FALSE(Strip(5).decode(eight).complete) << "there is more than blocks need";
}

TEST(JpegScan, StuffedBytesAreData) {
    // "11111110" would be a code of eight bits, size ten; its FF is followed by a zero that is no data.
    Strip strip(1);
    const auto result = strip.decode({0b11111110, 0b11111111, 0x00, 0b11011111, 0xFF, 0xD9});
    EXPECT_TRUE(result.complete);
    EXPECT_EQ(result.end, 4U);
}

TEST(JpegScan, RestartMarkersComeInTheirOrder) {
    Strip strip(4);
    strip.scan.restart_interval = 2;
    EXPECT_TRUE(strip.decode({0x03, 0xFF, 0xD0, 0x03, 0xFF, 0xD9}).complete);
    EXPECT_FALSE(strip.decode({0x03, 0xFF, 0xD1, 0x03, 0xFF, 0xD9}).complete) << "the wrong number";
    EXPECT_FALSE(strip.decode({0x03, 0x03, 0xFF, 0xD9}).complete) << "none";
}

}  // namespace
}  // namespace dredger::formats

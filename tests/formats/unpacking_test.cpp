#include "formats/unpacking.h"

#include <gtest/gtest.h>

#include "base/digest.h"
#include "support/support.h"

namespace dredger::formats {
namespace {

struct Packed {
    const char* sample;
    Packing packing;
};

class Codec : public testing::TestWithParam<Packed> {
  protected:
    static std::vector<std::byte> sample() { return test::samples().at(GetParam().sample); }
};

// What the packed samples hold begins like this.
constexpr std::string_view kStart = "2026-05-01;SK7013;Puffin;";

TEST_P(Codec, TellsWhereTheStreamEnds) {
    auto bytes = sample();
    const std::uint64_t length = bytes.size();
    bytes.resize(bytes.size() + 5000, std::byte{0x77});
    const test::MemoryMedium medium(std::move(bytes));
    Budget budget;
    Reader reader(medium, budget);
    const Unpacked whole = unpack(reader, GetParam().packing, 0, medium.size(), 25);
    EXPECT_TRUE(whole.ended());
    EXPECT_EQ(whole.packed, length);
    EXPECT_EQ(whole.head, kStart);
    EXPECT_GT(whole.bytes, 900U);
}

TEST_P(Codec, StopsWhereItIsCutOrDamaged) {
    auto bytes = sample();
    const test::MemoryMedium cut({bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(bytes.size() / 2)});
    Budget budget;
    Reader of_cut(cut, budget);
    EXPECT_FALSE(unpack(of_cut, GetParam().packing, 0, cut.size()).ended());
    bytes[bytes.size() / 2] ^= std::byte{0x55};
    const test::MemoryMedium damaged(std::move(bytes));
    Reader of_damaged(damaged, budget);
    EXPECT_FALSE(unpack(of_damaged, GetParam().packing, 0, damaged.size()).ended());
}

TEST_P(Codec, NeverReadsBeyondWhatItMay) {
    const test::MemoryMedium medium(sample());
    Budget budget;
    Reader reader(medium, budget);
    EXPECT_LE(unpack(reader, GetParam().packing, 0, 20).packed, 20U);
    EXPECT_EQ(unpack(reader, GetParam().packing, medium.size() + 10, 20).packed, 0U);
}

INSTANTIATE_TEST_SUITE_P(Formats, Codec,
                         testing::Values(Packed{"gz-plain.gz", Packing::gzip}, Packed{"bz2-plain.bz2", Packing::bzip2},
                                         Packed{"xz-plain.xz", Packing::xz}, Packed{"zst-plain.zst", Packing::zstd}),
                         [](const auto& packed) { return std::string(packed.param.sample).substr(0, 2); });

TEST(Crc32, IsThatOfZipAcrossWindows) {
    std::vector<std::byte> bytes(200'000, std::byte{'a'});
    const std::uint32_t at_once = crc32(bytes);
    const test::MemoryMedium medium(std::move(bytes));
    Budget budget;
    Reader reader(medium, budget);
    EXPECT_EQ(crc32_of(reader, 0, 200'000), at_once);
    EXPECT_EQ(crc32(test::bytes_of("123456789")), 0xCBF43926U);
}

}  // namespace
}  // namespace dredger::formats

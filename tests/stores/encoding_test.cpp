// The scrambling and the sums of personal stores.
#include "stores/pst/encoding.h"

#include <gtest/gtest.h>
#include <vector>

namespace dredger {
namespace {

using namespace stores::pst;

std::vector<std::byte> some_bytes() {
    std::vector<std::byte> bytes;
    for (unsigned n = 0; n < 70'000; ++n) bytes.push_back(static_cast<std::byte>(n * 31 + n / 256));
    return bytes;
}

// [MS-PST] 5.2: what is done twice is undone.
TEST(PstEncoding, TheCyclicMethodIsItsOwnReverse) {
    for (const std::uint64_t bid : {std::uint64_t{4}, std::uint64_t{0x12345678}, std::uint64_t{0xFFFFFFFC}}) {
        auto bytes = some_bytes();
        decode(bytes, NDB_CRYPT_CYCLIC, bid);
        EXPECT_NE(bytes, some_bytes());
        decode(bytes, NDB_CRYPT_CYCLIC, bid);
        EXPECT_EQ(bytes, some_bytes());
    }
}

TEST(PstEncoding, EachByteStandsForAnother) {
    std::vector<std::byte> bytes;
    for (unsigned n = 0; n < 256; ++n) bytes.push_back(static_cast<std::byte>(n));
    decode(bytes, NDB_CRYPT_PERMUTE, 4);
    EXPECT_EQ(bytes[65], std::byte{0});  // the first of the table in 5.1
    EXPECT_EQ(bytes[61], std::byte{255});
    auto plain = some_bytes();
    decode(plain, NDB_CRYPT_NONE, 4);
    EXPECT_EQ(plain, some_bytes());
}

// Bit by bit, with the polynomial of [MS-PST] 5.3.
std::uint32_t sum_bit_by_bit(std::span<const std::byte> bytes) {
    std::uint32_t sum = 0;
    for (const std::byte b : bytes) {
        sum ^= std::to_integer<std::uint32_t>(b);
        for (unsigned bit = 0; bit < 8; ++bit) sum = (sum & 1U) != 0 ? sum >> 1 ^ 0xEDB88320U : sum >> 1;
    }
    return sum;
}

TEST(PstEncoding, SumsAndSignaturesAreThoseOfTheSpecification) {
    EXPECT_EQ(compute_crc({}), 0U);
    EXPECT_EQ(compute_crc(some_bytes()), sum_bit_by_bit(some_bytes()));
    EXPECT_EQ(compute_sig(0x250000, 19108), 0x4A81);
}

}  // namespace
}  // namespace dredger

// Unpacks what the formats' reference encoder packed.
#include "media/lzfse.h"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <openssl/evp.h>
#include <random>

#include "base/digest.h"
#include "support/support.h"

namespace dredger {
namespace {

struct Case {
    std::vector<std::byte> packed;
    std::size_t size = 0;
    std::string sha256, blocks;
};

Case packed_case(const std::string& name) {
    const auto all = test::truth_of("lzfse");
    const std::string text = all[name]["packed"];
    Case one;
    one.packed.resize(text.size() / 4 * 3);
    EVP_DecodeBlock(reinterpret_cast<unsigned char*>(one.packed.data()),
                    reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
    one.size = all[name]["size"];
    one.sha256 = all[name]["sha256"];
    one.blocks = all[name]["blocks"];
    return one;
}

std::string sum_of(std::span<const std::byte> bytes) {
    Sha256 digest;
    digest.add(bytes);
    return digest.finish();
}

class Lzfse : public testing::TestWithParam<const char*> {};

TEST_P(Lzfse, GivesBackWhatWasPacked) {
    const Case one = packed_case(GetParam());
    std::vector<std::byte> out(one.size);
    ASSERT_EQ(lzfse_unpack(one.packed, out), one.size);
    EXPECT_EQ(sum_of(out), one.sha256);
}

INSTANTIATE_TEST_SUITE_P(Cases, Lzfse, testing::Values("log", "short", "noise", "zeros", "long"));

TEST(Lzvn, IsUnpackedWithoutAFrame) {
    const Case one = packed_case("short");
    ASSERT_EQ(one.blocks, "bvxn");
    constexpr std::size_t kHeader = 12;  // of the block that holds it
    std::vector<std::byte> out(one.size);
    ASSERT_EQ(lzvn_unpack(std::span(one.packed).subspan(kHeader), out), one.size);
    EXPECT_EQ(sum_of(out), one.sha256);
}

TEST(Lzfse, BrokenOffGivesWhatWasWholeBefore) {
    const Case one = packed_case("long");
    std::vector<std::byte> whole(one.size), part(one.size);
    lzfse_unpack(one.packed, whole);
    const std::size_t got = lzfse_unpack(std::span(one.packed).first(one.packed.size() - 100), part);
    EXPECT_GT(got, 0U);
    EXPECT_LT(got, one.size);
    EXPECT_TRUE(std::equal(part.begin(), part.begin() + static_cast<std::ptrdiff_t>(got), whole.begin()));
}

TEST(Lzfse, NoMoreComesOutThanThereIsRoomFor) {
    const Case one = packed_case("log");
    std::vector<std::byte> out(1'000);
    EXPECT_EQ(lzfse_unpack(one.packed, out), out.size());
}

TEST(Lzfse, DamageComesToAnEnd) {
    std::mt19937 chance(20260503);
    for (const char* name : {"log", "short", "long"}) {
        const Case one = packed_case(name);
        std::vector<std::byte> out(one.size);
        for (unsigned copy = 0; copy < 300; ++copy) {
            auto packed = one.packed;
            for (unsigned n = 0; n < 3; ++n) packed[chance() % packed.size()] = static_cast<std::byte>(chance());
            EXPECT_LE(lzfse_unpack(packed, out), out.size());
            EXPECT_LE(lzvn_unpack(packed, out), out.size());
        }
    }
}

}  // namespace
}  // namespace dredger

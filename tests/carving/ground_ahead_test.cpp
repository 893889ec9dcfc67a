// Reading ahead: in order, from any thread, and no sector more often than it must be.
#include "carving/ground_ahead.h"

#include <gtest/gtest.h>
#include <random>

#include "support/failing.h"

namespace dredger {
namespace {

using test::FailingMedium;

constexpr std::uint64_t kBlock = GroundAhead::kBlock;

class GroundAheadTest : public testing::Test {
  protected:
    std::shared_ptr<FailingMedium> medium_of(std::size_t size) {
        std::minstd_rand chance(11);
        std::vector<std::byte> bytes(size);
        for (std::byte& b : bytes) b = static_cast<std::byte>(chance() >> 8);
        return std::make_shared<FailingMedium>(std::move(bytes));
    }
    static std::shared_ptr<const Content> all_of(const MediumPtr& medium) {
        return std::make_shared<Content>(medium, std::vector<Extent>{{0, medium->size()}});
    }
};

TEST_F(GroundAheadTest, BlocksComeInOrderWithWhatStandsAroundThem) {
    const auto medium = medium_of(3 * kBlock + 700);
    GroundAhead ground(all_of(medium), 0);
    std::uint64_t expected = 0;
    while (const auto block = ground.next()) {
        ASSERT_EQ(block->start, expected);
        EXPECT_EQ(block->length, std::min(kBlock, medium->size() - expected));
        const auto bytes = block->from(expected).bytes();
        EXPECT_EQ(bytes.size(), std::min(kBlock + (64 << 10), medium->size() - expected));
        EXPECT_TRUE(
            std::equal(bytes.begin(), bytes.end(), medium->bytes().begin() + static_cast<std::ptrdiff_t>(expected)));
        EXPECT_EQ(block->before(expected).size(), expected == 0 ? 0U : 16U);
        if (expected > 0) {
            EXPECT_EQ(block->before(expected).bytes().front(),
                      medium->bytes()[static_cast<std::size_t>(expected) - 16]);
        }
        expected += kBlock;
        ground.let_go_first();
    }
    EXPECT_GE(expected, medium->size());
}

TEST_F(GroundAheadTest, WhatIsReadFurtherOnIsNotAskedForAgain) {
    const auto medium = medium_of(6 * kBlock);
    GroundAhead ground(all_of(medium), kBlock);
    ASSERT_EQ(ground.next()->start, kBlock);
    // As a file would be measured that goes on to the end.
    for (std::uint64_t at = kBlock + 100; at + 5000 < medium->size(); at += 5000) {
        const auto bytes = ground.bytes(at, 5000).value();
        ASSERT_TRUE(std::equal(bytes.begin(), bytes.end(), medium->bytes().begin() + static_cast<std::ptrdiff_t>(at)));
    }
    while (ground.next()) ground.let_go_first();
    for (std::uint64_t sector = kBlock / 512; sector < medium->size() / 512; ++sector)
        ASSERT_LE(medium->asked(sector), sector * 512 % kBlock < kBlock - 4096 ? 1U : 2U) << sector;
    // What lies in front of the first block, or was let go, is read from the medium.
    EXPECT_EQ(ground.bytes(10, 100).value(), all_of(medium)->bytes(10, 100).value());
    EXPECT_EQ(ground.bytes(kBlock, 100).value(), all_of(medium)->bytes(kBlock, 100).value());
}

TEST_F(GroundAheadTest, BadSectorsAreToldFromWhereverTheyAreRead) {
    const auto medium = medium_of(4 * kBlock);
    const std::uint64_t sector = kBlock / 512 + 5;  // within what is seen beyond the first block
    medium->break_sector(sector);
    GroundAhead ground(all_of(medium), 0);
    EXPECT_FALSE(ground.next()->is_sound);
    EXPECT_FALSE(ground.next()->is_sound);
    EXPECT_TRUE(ground.next()->is_sound);
    std::vector<std::byte> bytes(4096);
    std::vector<Extent> bad;
    ASSERT_TRUE(ground.read(sector * 512 - 1024, bytes, &bad));
    ASSERT_EQ(bad.size(), 1U);
    EXPECT_EQ(bad.front(), (Extent{sector * 512, 512}));
}

TEST_F(GroundAheadTest, NobodyWaitsForAGroundThatIsStopped) {
    const auto medium = medium_of(60 * kBlock);
    GroundAhead ground(all_of(medium), 0);
    // All that may be read without anything being let go, and one more: it waits.
    std::thread waiting([&] {
        while (ground.next()) {
        }
    });
    ground.stop();
    waiting.join();
    EXPECT_FALSE(ground.next());
    EXPECT_EQ(ground.bytes(59 * kBlock, 100).value(), all_of(medium)->bytes(59 * kBlock, 100).value());
}

}  // namespace
}  // namespace dredger

#include "filesystems/leftover.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

TEST(Leftover, ShowsWhatNothingHoldsAndWhatLiesBehindTheClusters) {
    std::vector<std::byte> bytes(10'000, std::byte{7});
    SpaceMap today(1000, 1000, 8);  // clusters up to byte 9000
    today.take(1);
    const Leftover left(std::make_shared<test::MemoryMedium>(bytes), today);
    const auto seen = left.bytes(0, 10'000).value();
    const auto is_left = [&](std::size_t at) { return seen[at] == std::byte{7}; };
    EXPECT_FALSE(is_left(0)) << "before the first cluster lies the file system's own";
    EXPECT_FALSE(is_left(999));
    EXPECT_TRUE(is_left(1000));
    EXPECT_TRUE(is_left(1999));
    EXPECT_FALSE(is_left(2000));
    EXPECT_FALSE(is_left(2999));
    EXPECT_TRUE(is_left(3000));
    EXPECT_TRUE(is_left(9500));
    const auto part = left.bytes(2990, 20).value();
    EXPECT_EQ(part[9], std::byte{0});
    EXPECT_EQ(part[10], std::byte{7});
}

}  // namespace
}  // namespace dredger

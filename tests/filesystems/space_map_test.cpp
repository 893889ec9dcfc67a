#include "filesystems/space_map.h"

#include <gtest/gtest.h>

namespace dredger {
namespace {

TEST(SpaceMap, CountsTakenBytesOfAnyPlace) {
    SpaceMap map(1000, 100, 10);
    map.take(2);
    map.take(3);
    map.take(3);
    EXPECT_EQ(map.taken_bytes(), 200U);
    EXPECT_EQ(map.taken_bytes_in({1200, 200}), 200U);
    EXPECT_EQ(map.taken_bytes_in({1150, 100}), 50U);
    EXPECT_EQ(map.taken_bytes_in({1000, 200}), 0U);
    EXPECT_EQ(map.taken_bytes_in({1390, 20}), 10U);
}

TEST(SpaceMap, GivesWholeClusters) {
    const SpaceMap map(1000, 100, 10);
    EXPECT_EQ(map.whole_units({1150, 10}), (Extent{1100, 100}));
    EXPECT_EQ(map.whole_units({1100, 101}), (Extent{1100, 200}));
    EXPECT_EQ(map.whole_units({1990, 50}), (Extent{1990, 50})) << "beyond the clusters";
    EXPECT_TRUE(map.whole_units(Extent::unknown(50)).is_unknown());
}

TEST(SpaceMap, FreeRunsAreWhatNobodyHolds) {
    SpaceMap map(1000, 100, 10);
    EXPECT_EQ(map.free_runs(), (std::vector<Extent>{{1000, 1000}}));
    for (const std::uint64_t taken : {0U, 3U, 4U, 9U}) map.take(taken);
    EXPECT_EQ(map.free_runs(), (std::vector<Extent>{{1100, 200}, {1500, 400}}));
    EXPECT_TRUE(SpaceMap().free_runs().empty());
}

TEST(SpaceMap, WhatLiesAroundTheClustersIsTaken) {
    const SpaceMap map(1000, 100, 10);
    EXPECT_EQ(map.taken_bytes_in({990, 20}), 10U);
    EXPECT_EQ(map.taken_bytes_in({1990, 30}), 20U);
    EXPECT_EQ(map.taken_bytes_in({5000, 7}), 7U);
}

TEST(SpaceMap, WhatIsNotStoredHasNoUnits) {
    const SpaceMap map(0, 4096, 16);
    for (const Extent& extent : {Extent::unknown(5000), Extent::zeros(5000)}) {
        EXPECT_EQ(map.whole_units(extent), extent);
    }
}

TEST(SpaceMap, TakesRunsOnce) {
    SpaceMap map(4096, 4096, 16);
    map.take(3);
    map.take_run(2, 4);
    map.take_run(14, 9);
    map.take_run(99, 1);
    EXPECT_EQ(map.taken_bytes(), 6U * 4096);
    EXPECT_EQ(map.free_runs(), (std::vector<Extent>{{4096, 2 * 4096}, {7 * 4096, 8 * 4096}}));
}

}  // namespace
}  // namespace dredger

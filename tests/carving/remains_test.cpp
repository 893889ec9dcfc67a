// What of a ground is left when others hold parts of it.
#include "carving/remains.h"

#include <gmock/gmock.h>

namespace dredger {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

TEST(Remains, WhatIsHeldInPartIsHeldWhole) {
    Remains remains(10000, 1000);
    EXPECT_THAT(remains.runs(), ElementsAre(Extent{0, 10000}));
    remains.hold({2500, 10});
    remains.hold({4000, 1001});
    remains.settle();
    EXPECT_THAT(remains.runs(), ElementsAre(Extent{0, 2000}, Extent{3000, 1000}, Extent{6000, 4000}));
    EXPECT_TRUE(remains.is_held(2000));
    EXPECT_FALSE(remains.is_held(1999));
    EXPECT_EQ(remains.held_until(4500), 6000U);
    EXPECT_EQ(remains.held_until(3500), 3500U);
}

TEST(Remains, GrainsBeginWhereThePhaseSays) {
    Remains remains(10000, 1000, 300);
    EXPECT_THAT(remains.runs(), ElementsAre(Extent{300, 9700}));
    remains.hold({100, 1});
    remains.hold({1300, 1000});
    remains.hold({9900, 100});
    remains.settle();
    EXPECT_THAT(remains.runs(), ElementsAre(Extent{300, 1000}, Extent{2300, 7000}));
}

TEST(Remains, RunsAreFoundByPlace) {
    Remains remains(10000, 1000);
    remains.hold({2000, 1000});
    remains.settle();
    EXPECT_EQ(remains.run_at(0), 0U);
    EXPECT_EQ(remains.run_at(1999), 0U);
    EXPECT_EQ(remains.run_at(2000), 1U);
    EXPECT_EQ(remains.run_at(9999), 1U);
    EXPECT_EQ(remains.run_at(10000), 2U);
    ASSERT_NE(remains.run_around(3500), nullptr);
    EXPECT_EQ(*remains.run_around(3500), (Extent{3000, 7000}));
    EXPECT_EQ(remains.run_around(2500), nullptr);
    EXPECT_TRUE(remains.is_held_in_part({1500, 600}));
    EXPECT_FALSE(remains.is_held_in_part({3000, 7000}));
    remains.hold({0, 10000});
    remains.settle();
    EXPECT_THAT(remains.runs(), IsEmpty());
}

}  // namespace
}  // namespace dredger

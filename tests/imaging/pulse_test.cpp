#include "imaging/pulse.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace dredger {
namespace {

using std::chrono::milliseconds;
using testing::ElementsAre;
using testing::HasSubstr;

void ask(Pulse& pulse, int times, int refused_of_ten, milliseconds took = milliseconds(2)) {
    for (int n = 0; n < times; ++n) pulse.answered(n % 10 >= refused_of_ten, took, true);
}

TEST(Pulse, AMediumThatAnswersIsNotWarnedOf) {
    Pulse pulse;
    ask(pulse, 1200, 0);
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::steady);
    EXPECT_THAT(pulse.advice({}, 0), ElementsAre("It answered 1,200 asks, all promptly."));
}

TEST(Pulse, RefusalsThatStayAsTheyAreAreBorne) {
    Pulse pulse;
    ask(pulse, 1000, 1, milliseconds(1500));
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::steady);
    EXPECT_EQ(pulse.price_of_refusal(), milliseconds(1500));
    EXPECT_THAT(pulse.advice({}, 4096), ElementsAre(HasSubstr("100 of 1,000 asks (10 %) and took its time over 1,000"),
                                                    HasSubstr("bears being asked on")));
}

TEST(Pulse, RefusalsThatGrowAreToldOf) {
    Pulse pulse;
    ask(pulse, 1000, 0);
    ask(pulse, 128, 2);
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::worse);
    EXPECT_THAT(pulse.advice({}, 4096).back(), HasSubstr("getting worse"));
    ask(pulse, 128, 8);
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::much_worse);
    EXPECT_THAT(pulse.advice({}, 4096).back(), HasSubstr("switch it off now"));
}

TEST(Pulse, EarlierRunsAreWhatARunIsComparedWith) {
    Pulse pulse;
    ask(pulse, 128, 3);
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::steady);
    EXPECT_EQ(pulse.trend({{"", 1000, 10, 0, 0}}), Pulse::Trend::worse);
    EXPECT_EQ(pulse.trend({{"", 1000, 300, 0, 0}}), Pulse::Trend::steady);
}

// What was refused once is likely to be refused again: that is not the medium growing worse.
TEST(Pulse, AskingAgainDoesNotCountAgainstIt) {
    Pulse pulse;
    ask(pulse, 1000, 0);
    for (int n = 0; n < 500; ++n) pulse.answered(false, milliseconds(2), false);
    EXPECT_EQ(pulse.trend({}), Pulse::Trend::steady);
}

}  // namespace
}  // namespace dredger

#include "base/times.h"

#include <gtest/gtest.h>

namespace dredger {
namespace {

constexpr std::uint16_t date(int year, int month, int day) {
    return static_cast<std::uint16_t>((year - 1980) << 9 | month << 5 | day);
}
constexpr std::uint16_t clock_time(int h, int m, int s) { return static_cast<std::uint16_t>(h << 11 | m << 5 | s / 2); }

TEST(FatTime, HasStepsOfTwoSecondsAndTenMilliseconds) {
    const auto time = fat_time(date(2026, 5, 3), clock_time(9, 12, 44));
    ASSERT_TRUE(time);
    EXPECT_EQ(iso8601(*time), "2026-05-03T09:12:44Z");
    EXPECT_EQ(time->clock, FileTime::Clock::local);
    EXPECT_EQ(iso8601(*fat_time(date(2026, 5, 3), clock_time(9, 12, 44), 153)), "2026-05-03T09:12:45.53Z");
}

TEST(FatTime, KeepsToTheCalendar) {
    EXPECT_FALSE(fat_time(0, 0));
    EXPECT_FALSE(fat_time(date(2026, 2, 30)));
    EXPECT_FALSE(fat_time(date(2026, 13, 1)));
    EXPECT_FALSE(fat_time(date(2026, 5, 3), clock_time(24, 0, 0)));
    EXPECT_TRUE(fat_time(date(2024, 2, 29)));
    EXPECT_TRUE(fat_time(date(2107, 12, 31)));
}

TEST(FatTime, TenthsBeyondTheirRangeAreLeftOut) {
    EXPECT_EQ(*fat_time(date(2026, 5, 3), 0, 255), *fat_time(date(2026, 5, 3), 0, 0));
}

TEST(TypedTimes, MeanAllThatTheyCan) {
    EXPECT_EQ(parse_time("2026-05-03")->last - parse_time("2026-05-03")->first, 86'399);
    EXPECT_EQ(parse_time("2026-02")->last - parse_time("2026-02")->first, 28 * 86'400 - 1);
    EXPECT_EQ(parse_time("2024")->last - parse_time("2024")->first, 366 * 86'400 - 1);
    EXPECT_EQ(parse_time("2026-05-03 09:12")->last - parse_time("2026-05-03T09:12")->first, 59);
    EXPECT_EQ(parse_time("1970-01-01T00:00:01Z")->first, 1);
}

TEST(TypedTimes, NonsenseIsNoTime) {
    for (const char* text : {"", "yesterday", "2026-13", "2026-05-32", "26-05-03", "2026-05-03T09", "2026-05-03x"})
        EXPECT_FALSE(parse_time(text)) << text;
}

TEST(ShownTimes, AreShortForPeople) { EXPECT_EQ(short_time(FileTime{0, 5, {}}), "1970-01-01 00:00"); }

}  // namespace
}  // namespace dredger

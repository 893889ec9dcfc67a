#include "base/times.h"

#include <cstdlib>
#include <ctime>
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
    EXPECT_EQ(iso8601(*time), "2026-05-03T09:12:44");
    EXPECT_EQ(time->clock, FileTime::Clock::local);
    EXPECT_EQ(iso8601(*fat_time(date(2026, 5, 3), clock_time(9, 12, 44), 153)), "2026-05-03T09:12:45.53");
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

TEST(WindowsTime, CountsFrom1601) {
    EXPECT_EQ(iso8601(windows_time(132'223'104'000'000'001).value()), "2020-01-01T00:00:00.0000001Z");
    EXPECT_EQ(iso8601(windows_time(10'000'000).value()), "1601-01-01T00:00:01Z");
    EXPECT_FALSE(windows_time(0));
    EXPECT_FALSE(windows_time(~std::uint64_t{0}));
}

TEST(ExfatTime, KnowsItsZone) {
    const std::uint32_t stamp = static_cast<std::uint32_t>(date(2026, 5, 3)) << 16U | clock_time(9, 12, 44);
    EXPECT_EQ(iso8601(exfat_time(stamp, 150, 0x80).value()), "2026-05-03T09:12:45.5Z");
    EXPECT_EQ(iso8601(exfat_time(stamp, 0, 0x80 | 8).value()), "2026-05-03T07:12:44Z") << "two hours east";
    EXPECT_EQ(iso8601(exfat_time(stamp, 0, 0xFF).value()), "2026-05-03T09:27:44Z") << "a quarter west";
    EXPECT_EQ(exfat_time(stamp, 0, 0)->clock, FileTime::Clock::local);
    EXPECT_EQ(exfat_time(stamp, 0, 8)->clock, FileTime::Clock::local) << "a zone that is not valid";
    EXPECT_FALSE(exfat_time(0, 0, 0x80));
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

TEST(ShownTimes, AreShortForPeopleAndTellTheirZone) {
    EXPECT_EQ(short_time(FileTime{0, 5, FileTime::Clock::utc}), "1970-01-01 00:00 UTC");
    EXPECT_EQ(short_time(FileTime{0, 5, FileTime::Clock::local}), "1970-01-01 00:00");
}

// An island two hours east of Greenwich, one in winter.
class TimesOnTheIsland : public testing::Test {
  protected:
    TimesOnTheIsland() {
        ::setenv("TZ", "ISL-1ISLS,M3.5.0,M10.5.0", 1);
        ::tzset();
    }
    ~TimesOnTheIsland() override {
        ::unsetenv("TZ");
        ::tzset();
    }
    static FileTime at(const char* text, FileTime::Clock clock) { return {parse_time(text)->first, 7, clock}; }
};

TEST_F(TimesOnTheIsland, AreShownAsItsClockSays) {
    EXPECT_EQ(shown_time(at("2026-05-03 22:30", FileTime::Clock::utc)), "2026-05-04 00:30");
    EXPECT_EQ(shown_time(at("2026-01-03 22:30", FileTime::Clock::utc)), "2026-01-03 23:30");
}

TEST_F(TimesOnTheIsland, StayAsTheyAreWhereTheirZoneIsNotKnown) {
    EXPECT_EQ(shown_time(at("2026-05-03 22:30", FileTime::Clock::local)), "2026-05-03 22:30~");
}

TEST_F(TimesOnTheIsland, LeadBackToTheMoment) {
    for (const char* text : {"2026-05-03 22:30", "2026-01-03 22:30", "1999-12-31 23:59"}) {
        const FileTime time = at(text, FileTime::Clock::utc);
        EXPECT_EQ(utc_of_local_digits(in_local_digits(time).seconds), time.seconds) << text;
    }
}

}  // namespace
}  // namespace dredger

#include "restoring/destination.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "restoring/drive_sync.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::TempFolder;

TEST(Destination, IsMadeWhereItIsMissingButNotByADryRun) {
    const TempFolder folder;
    ASSERT_TRUE(Destination::open(folder / "a/b", true));
    EXPECT_FALSE(fs::exists(folder / "a"));
    ASSERT_TRUE(Destination::open(folder / "a/b", false));
    EXPECT_TRUE(fs::is_directory(folder / "a/b"));
    test::write_text(folder / "file", "");
    EXPECT_EQ(Destination::open(folder / "file", true).error().kind, ErrorKind::usage);
}

TEST(Destination, TakesNoMoreThanItHasRoomFor) {
    const TempFolder folder;
    auto destination = Destination::open(folder.path(), false);
    ASSERT_TRUE(destination);
    const std::uint64_t room = destination->room();
    ASSERT_GT(room, 64U << 20);
    EXPECT_FALSE(destination->takes(UINT64_MAX, 0));
    EXPECT_FALSE(destination->takes(room, room / 2));
    EXPECT_TRUE(destination->takes(room / 4, 0));
    EXPECT_TRUE(destination->takes(0, 0));
}

TEST(Destination, WhatAnInterruptedRunLeftGoesAndNothingElse) {
    const TempFolder folder;
    const auto destination = Destination::open(folder.path(), false);
    ASSERT_TRUE(destination && destination->make_staging());
    for (const std::uint64_t number : {1U, 7U, 8U, 9U, 4000U})
        test::write_text(destination->staging_name(number), "half a file");
    const fs::path own = destination->staging_name(3).parent_path() / "log.csv";
    test::write_text(own, "");
    ASSERT_TRUE(destination->make_staging());
    for (const std::uint64_t number : {1U, 7U, 8U, 9U, 4000U})
        EXPECT_FALSE(fs::exists(destination->staging_name(number)));
    destination->clear_staging();
    EXPECT_TRUE(fs::exists(own));
    fs::remove(own);
    destination->clear_staging();
    EXPECT_TRUE(fs::is_empty(folder.path()));
}

TEST(Destination, BelongsToOneRunAtATime) {
    const TempFolder folder;
    auto first = Destination::open(folder.path(), false);
    ASSERT_TRUE(first);
    const auto second = Destination::open(folder.path(), false);
    ASSERT_FALSE(second);
    EXPECT_THAT(second.error().line(), testing::HasSubstr("another restore"));
    EXPECT_TRUE(Destination::open(folder.path(), true)) << "a dry run disturbs nobody";
    *first = Destination(std::move(*Destination::open(folder / "elsewhere", false)));
    EXPECT_TRUE(Destination::open(folder.path(), false));
}

TEST(DriveSync, TellsWhetherEverythingIsOnTheDrive) {
    const TempFolder folder;
    DriveSync drive(folder.path());
    for (int n = 0; n < 3; ++n) drive.wrote(300 << 20);
    EXPECT_FALSE(drive.wait());
    EXPECT_FALSE(drive.wait());
    DriveSync none(folder / "nowhere");
    none.wrote(1 << 30);
    EXPECT_EQ(none.wait(), std::errc::no_such_file_or_directory);
}

}  // namespace
}  // namespace dredger

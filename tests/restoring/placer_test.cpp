#include "restoring/placer.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

class PlacerTest : public testing::Test {
  protected:
    // A completed file that says `text`, to be placed below the folder.
    Placement placement(const std::string& text, const fs::path& place) {
        auto file = StagedFile::create(folder_ / ("staged " + std::to_string(++number_)));
        EXPECT_TRUE(file && file->write(0, std::as_bytes(std::span(text))));
        EXPECT_TRUE(file->complete({}, MakingTime::none));
        return {std::move(*file), {folder_.path(), place}, "card.dredge", {}, Outcome::whole};
    }
    std::size_t files() const {
        return static_cast<std::size_t>(
            std::distance(fs::recursive_directory_iterator(folder_.path()), fs::recursive_directory_iterator()));
    }

    test::TempFolder folder_;
    int number_ = 0;
};

TEST_F(PlacerTest, LaterOnesTakeThePlaceOfEarlierOnes) {
    Placer placer;
    for (int n = 0; n < 3000; ++n) placer.give(placement(std::to_string(n), "log"));
    EXPECT_TRUE(placer.rest().empty());
    EXPECT_EQ(test::read_text(folder_ / "log"), "2999");
    EXPECT_EQ(files(), 1U);
}

TEST_F(PlacerTest, TellsEachOneThatHasNoPlaceOnce) {
    Placer placer;
    placer.give(placement("a", "a"));
    placer.give(placement("b", "nowhere/b"));
    placer.give(placement("c", "c"));
    const auto failed = placer.rest();
    ASSERT_EQ(failed.size(), 1U);
    EXPECT_EQ(failed.front().placement.target.relative, fs::path("nowhere/b"));
    EXPECT_EQ(failed.front().why.kind, ErrorKind::output);
    EXPECT_TRUE(placer.failures().empty());
    EXPECT_EQ(test::read_text(folder_ / "c"), "c");
}

TEST_F(PlacerTest, WhatWasGivenIsPlacedBeforeItEnds) {
    {
        Placer placer;
        for (int n = 0; n < 50; ++n) placer.give(placement("x", std::to_string(n)));
    }
    EXPECT_EQ(files(), 50U);
    EXPECT_EQ(test::read_text(folder_ / "49"), "x");
}

}  // namespace
}  // namespace dredger

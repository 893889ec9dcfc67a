// ISO 9660 and UDF as genisoimage, xorriso, mkudffs and the kernel wrote them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>

#include "base/digest.h"
#include "filesystems/iso9660/iso9660.h"
#include "filesystems/udf/udf.h"
#include "support/support.h"
#include "support/walked.h"
#include "volumes/lost.h"

namespace dredger {
namespace {

using test::Walked;
using testing::AllOf;
using testing::Contains;
using testing::ElementsAre;
using testing::Field;
using testing::HasSubstr;

class OpticalMedia : public testing::TestWithParam<const char*> {};

// By path, state and content: a path may have had several.
std::multiset<std::string> told_of(const Walked& walked) {
    std::multiset<std::string> told;
    for (const Record& record : walked.found.records) {
        const bool is_link =
            std::find(record.attributes.begin(), record.attributes.end(), "symbolic link") != record.attributes.end();
        told.insert(record.path() + " " + std::string(word_for(record.state)) + " " +
                    (record.is_folder ? "folder"
                     : is_link        ? "link"
                                      : walked.sum_of(record)));
    }
    return told;
}

TEST_P(OpticalMedia, GiveEveryFileOfEverySession) {
    const Walked walked(GetParam());
    std::multiset<std::string> expected;
    const auto truth = test::truth_of(GetParam());
    for (const auto& file : truth["files"])
        expected.insert(file["path"].get<std::string>() + " " + file["state"].get<std::string>() + " " +
                        (file["directory"]           ? "folder"
                         : file.value("link", false) ? "link"
                                                     : file["sha256"].get<std::string>()));
    EXPECT_EQ(told_of(walked), expected);
    EXPECT_TRUE(walked.warnings.empty());
}

INSTANTIATE_TEST_SUITE_P(Media, OpticalMedia, testing::Values("iso-joliet", "iso-ridge", "iso-sessions", "udf-bridge"),
                         test::NameOfTest());

TEST(Iso9660, TellsModesLinksAndTimes) {
    const Walked walked("iso-ridge");
    const Record* permit = walked.found.find("Permit.txt", State::live);
    ASSERT_NE(permit, nullptr);
    EXPECT_THAT(permit->facts, Contains(Field(&Fact::value, "-rw-r-----")));
    EXPECT_EQ(iso8601(*permit->modified), "2026-05-03T09:20:00Z");
    const Record* link = walked.found.find("latest", State::live);
    ASSERT_NE(link, nullptr);
    EXPECT_THAT(link->facts, Contains(Field(&Fact::value, "Ringing logs/2026/../2026/log may-0.csv")));
}

TEST(Iso9660, SaysOfWhichSessionAFileIs) {
    const Walked walked("iso-sessions");
    const Record* permit = walked.found.find("Permit.txt");
    ASSERT_NE(permit, nullptr);
    EXPECT_EQ(permit->origin, Origin::remnant);
    EXPECT_THAT(permit->notes, ElementsAre(HasSubstr("earlier session")));
    EXPECT_EQ(walked.filesystem->facts().label, "SEASON");
}

// The kernel's driver empties a file's entry when it deletes it: what is left are names.
TEST(Udf, GivesLiveFilesAndTheNamesOfDeletedOnes) {
    const Walked walked("udf-stick");
    std::size_t live = 0, deleted = 0;
    const auto truth = test::truth_of("udf-stick");
    for (const auto& file : truth["files"]) {
        const std::string path = file["path"];
        if (file["directory"] || path.starts_with("Old season/")) continue;
        const bool is_live = file["state"] == "live";
        const Record* record = walked.found.find(path, is_live ? State::live : State::deleted);
        ASSERT_NE(record, nullptr) << path;
        if (is_live) {
            EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << path;
            EXPECT_EQ(iso8601(*record->modified), file["modified"]);
        } else {
            EXPECT_EQ(record->trust, LayoutTrust::none);
            EXPECT_THAT(record->notes, ElementsAre(HasSubstr("only its name")));
        }
        ++(is_live ? live : deleted);
    }
    EXPECT_EQ(live, 11U);
    EXPECT_EQ(deleted, 4U);
    EXPECT_NE(walked.found.find("Old season"), nullptr);
    EXPECT_EQ(walked.filesystem->facts().label, "RINGSTICK");
}

TEST(Udf, ReadsThroughTheLastAnchorAndTheReserve) {
    const Walked intact("udf-stick");
    const Walked walked("udf-stick", [](test::MemoryMedium& medium, std::uint64_t) {
        for (std::uint64_t at = 0; at < 16; ++at) medium.patch(256 * 512 + at, 0);
    });
    ASSERT_NE(walked.filesystem, nullptr);
    EXPECT_EQ(told_of(walked), told_of(intact));
}

TEST(Udf, TextIsStoredByBytesOrByPairs) {
    EXPECT_EQ(udf::text_of(ByteView(test::bytes_of("\x08nest"))), "nest");
    EXPECT_EQ(udf::text_of(ByteView(test::bytes_of(std::string_view("\x10\x6d\x77\x9c\xe5", 5)))), "海鳥");
    EXPECT_EQ(udf::text_of(ByteView(test::bytes_of("\x07nest"))), "");
}

TEST(Udf, TimesHaveZones) {
    udf::Timestamp stamp{};
    stamp.type_and_zone = 0x1000 | 120;
    stamp.year = 2026;
    stamp.month = 5;
    stamp.day = 3;
    stamp.hour = 11;
    stamp.centiseconds = 25;
    EXPECT_EQ(iso8601(*udf::time_of(stamp)), "2026-05-03T09:00:00.25Z");
    stamp.type_and_zone = 0x1000 | (0x1000 - 2047);
    EXPECT_EQ(udf::time_of(stamp)->clock, FileTime::Clock::local);
    stamp.month = 13;
    EXPECT_FALSE(udf::time_of(stamp));
}

// Descriptors, folders and entries lie in front.
std::vector<std::uint64_t> tender_places(const std::vector<std::byte>& image) {
    constexpr std::size_t kFront = 300'000;
    std::vector<std::uint64_t> places;
    for (std::size_t at = 0; at < std::min(kFront, image.size()); ++at)
        if (image[at] != std::byte{0}) places.push_back(at);
    return places;
}

class OpticalDamage : public testing::TestWithParam<const char*> {};

TEST_P(OpticalDamage, AThousandCopies) { test::scan_a_thousand({GetParam(), 31}, tender_places); }

INSTANTIATE_TEST_SUITE_P(Media, OpticalDamage, testing::Values("iso-joliet", "iso-sessions", "udf-bridge", "udf-stick"),
                         test::NameOfTest());

// A disc image that lies somewhere on a medium, without a table.
TEST(Optical, VolumesThatAreLostAreSeen) {
    for (const char* fixture : {"iso-joliet", "udf-bridge"}) {
        std::vector<std::byte> bytes(4096 * 64);
        const auto disc = test::unpacked(fixture);
        bytes.insert(bytes.end(), disc.begin(), disc.end());
        const test::MemoryMedium medium(bytes);
        std::vector<VolumeTrace> traces;
        look_for_traces(medium, all_tracers(), 0, bytes, traces);
        EXPECT_THAT(
            traces,
            Contains(AllOf(Field(&VolumeTrace::offset, 4096U * 64),
                           Field(&VolumeTrace::filesystem, std::string(fixture) == "udf-bridge" ? "UDF" : "ISO 9660"))))
            << fixture;
    }
}

}  // namespace
}  // namespace dredger

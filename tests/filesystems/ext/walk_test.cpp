// Walks ext media that the kernel's driver wrote, and the same media with single things damaged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "base/bytes.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

class ExtMedia : public testing::TestWithParam<const char*> {};

TEST_P(ExtMedia, GivesBackAllThatTheJournalTellsOf) {
    const Walked walked(GetParam());
    expect_truth(walked, GetParam());
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, IsEmpty());
}

INSTANTIATE_TEST_SUITE_P(Media, ExtMedia, testing::Values("ext4-home", "ext4-worn", "ext3-office"), test::NameOfTest());

TEST(ExtWalk, TellsModeOwnerAndWhenItWasDeleted) {
    const Walked walked("ext4-home");
    const Record* record = walked.found.find("Permits/Landing permit 2026.pdf");
    ASSERT_NE(record, nullptr);
    EXPECT_THAT(record->facts, Contains(Fact{"mode", "-rw-r--r--"}));
    EXPECT_THAT(record->facts, Contains(Fact{"owner", "0:0"}));
    EXPECT_TRUE(record->deleted);
    EXPECT_EQ(record->origin, Origin::remnant);
    EXPECT_THAT(record->notes, Contains(HasSubstr("stands in the journal")));
}

TEST(ExtWalk, ContentWithinTheInodeIsWhole) {
    const Walked walked("ext4-home");
    const Record* record = walked.found.find("Tiny/Note 0.txt", State::live);
    ASSERT_NE(record, nullptr);
    EXPECT_TRUE(record->layout.within_records);
}

TEST(ExtWalk, WithoutAJournalTheLiveTreeStands) {
    const Walked walked("ext2-office");
    EXPECT_EQ(walked.filesystem->facts().filesystem, "ext2");
    const auto truth = test::truth_of("ext2-office");
    for (const auto& file : truth["files"]) {
        if (file["state"] != "live" || file["directory"]) continue;
        const Record* record = walked.found.find(file["path"], State::live);
        ASSERT_NE(record, nullptr) << file["path"];
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
    }
    EXPECT_TRUE(std::any_of(walked.found.records.begin(), walked.found.records.end(), [](const Record& r) {
        return r.state == State::deleted && r.name == "Track 0.jpg" && r.trust == LayoutTrust::none;
    })) << "the removed folder's block still names it";
}

TEST(ExtWalk, ACopyOfTheSuperblockOpensIt) {
    const Walked walked("ext3-office", [](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t at = 1024; at < 2048; ++at) medium.patch(volume + at, 0);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("its copy in block group 1 is used")));
    expect_truth(walked, "ext3-office");
}

TEST(ExtWalk, ADamagedJournalCostsItsOwnCopiesOnly) {
    // Descriptor blocks of the journal begin with its magic number; every other one is taken away.
    const auto image = test::unpacked("ext3-office");
    const Walked walked("ext3-office", [&](MemoryMedium& medium, std::uint64_t) {
        unsigned n = 0;
        for (std::uint64_t at = 0; at + 1024 <= image.size(); at += 1024)
            if (ByteView(image).has(static_cast<std::size_t>(at), std::string_view("\xC0\x3B\x39\x98\0\0\0\1", 8)) &&
                n++ % 2 == 0)
                medium.patch32(at, 0);
    });
    EXPECT_NE(walked.found.find("Keep me.txt", State::live), nullptr);
}

}  // namespace
}  // namespace dredger

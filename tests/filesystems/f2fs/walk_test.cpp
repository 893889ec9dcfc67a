// Walks F2FS media that the kernel's driver wrote, and the same media with single things damaged.
#include <algorithm>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "filesystems/f2fs/directory.h"
#include "filesystems/f2fs/f2fs.h"
#include "filesystems/f2fs/node.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

constexpr std::uint64_t kBlock = f2fs::kBlock;

f2fs::Geometry geometry_of(const std::string& fixture) {
    const auto image = test::unpacked(fixture);
    return f2fs::parse_superblock(ByteView(std::span(image).subspan(f2fs::kSuperBlockAt))).value();
}

class F2fsMedia : public testing::TestWithParam<const char*> {};

TEST_P(F2fsMedia, GivesBackEveryFileThatStands) {
    const Walked walked(GetParam());
    test::expect_whole_deleted(walked, GetParam());
    test::expect_live(walked, GetParam());
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, IsEmpty());
}

TEST_P(F2fsMedia, WhatIsInUseIsWhatLiveFilesAndNodesHold) {
    const Walked walked(GetParam());
    const SpaceMap& space = walked.filesystem->space();
    for (const Record& record : walked.found.records) {
        if (record.state != State::live || record.layout.within_records) continue;
        for (const Extent& extent : record.layout.extents)
            if (extent.is_stored()) {
                const Extent whole = space.whole_units(extent);
                EXPECT_EQ(space.taken_bytes_in(whole), whole.length) << record.path();
            }
    }
    EXPECT_LT(space.taken_bytes(), walked.filesystem->facts().size);
}

INSTANTIATE_TEST_SUITE_P(Media, F2fsMedia, testing::Values("f2fs-station", "f2fs-worn"), test::NameOfTest());

TEST(F2fsWalk, AFileIsFoundUnderItsLastName) {
    const Walked walked("f2fs-station");
    const Record* moved = walked.found.find("Nests/Count of June.csv");
    ASSERT_NE(moved, nullptr);
    EXPECT_EQ(moved->size, 52'000U);
    EXPECT_EQ(walked.found.find("Count.csv"), nullptr) << "one file is found once";
}

TEST(F2fsWalk, LargeFilesAreReadThroughListsOfAddresses) {
    const Walked walked("f2fs-worn");
    const Record* large = walked.found.find("Turn 1/Log of all.txt");
    ASSERT_NE(large, nullptr);
    EXPECT_GT(large->size, (923U + 2 * 1018U) * 4096U) << "more than an inode and its two lists can tell of";
}

TEST(F2fsWalk, SmallFilesStandInTheirInodes) {
    const Walked walked("f2fs-station");
    const Record* note = walked.found.find("Nests/Ledge 1/Notes.txt");
    ASSERT_NE(note, nullptr);
    EXPECT_TRUE(note->layout.within_records);
}

TEST(F2fsWalk, TheCopyOfTheSuperblockIsUsed) {
    const Walked walked("f2fs-station", [](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch32(volume + f2fs::kSuperBlockAt, 0);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("its copy in the second block is used")));
    EXPECT_NE(walked.found.find("Permits/Landing permit 2026.pdf"), nullptr);
}

TEST(F2fsWalk, ADamagedCheckpointGivesWayToTheOther) {
    const f2fs::Geometry g = geometry_of("f2fs-station");
    for (const std::uint64_t pack : {0U, g.segment_blocks}) {
        const Walked walked("f2fs-station", [&](MemoryMedium& medium, std::uint64_t volume) {
            medium.patch32(volume + (g.checkpoint_at + pack) * kBlock + 20, 0xFFFF'FFFF);
        });
        EXPECT_TRUE(walked.filesystem->facts().is_mountable);
        EXPECT_NE(walked.found.find("Keep me.txt", State::live), nullptr) << "checkpoint at " << pack;
    }
}

TEST(F2fsWalk, WithoutAnyCheckpointAllIsFoundByItsRemains) {
    const f2fs::Geometry g = geometry_of("f2fs-station");
    const Walked walked("f2fs-station", [&](MemoryMedium& medium, std::uint64_t volume) {
        for (const std::uint64_t pack : {0U, g.segment_blocks})
            medium.patch32(volume + (g.checkpoint_at + pack) * kBlock + 20, 0xFFFF'FFFF);
    });
    EXPECT_FALSE(walked.filesystem->facts().is_mountable);
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("both checkpoints are damaged")));
    const auto truth = test::truth_of("f2fs-station");
    std::size_t right = 0, files = 0;
    for (const auto& file : truth["files"]) {
        if (file["directory"] || file["intact_bytes"] != file["size"] || file["size"] == 0) continue;
        ++files;
        const Record* record = walked.found.find(file["path"]);
        right += record != nullptr && walked.sum_of(*record) == file["sha256"] ? 1 : 0;
    }
    EXPECT_GE(right * 100, files * 99) << right << " of " << files;
}

TEST(F2fsWalk, AFileWhoseListIsLostSaysSo) {
    const f2fs::Geometry g = geometry_of("f2fs-worn");
    const Walked whole("f2fs-worn");
    const Record* before = whole.found.find("Turn 1/Log of all.txt");
    ASSERT_NE(before, nullptr);
    const auto image = test::unpacked("f2fs-worn");
    const Walked walked("f2fs-worn", [&](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t at = g.main_at * kBlock; at + kBlock <= image.size(); at += kBlock) {
            const auto node = f2fs::parse_node_head(ByteView(std::span(image).subspan(at, kBlock)), g);
            if (node && !node->is_inode() && node->inode == before->identity.number)
                medium.patch32(volume + at + f2fs::kFooterAt, 0);
        }
    });
    const Record* record = walked.found.find("Turn 1/Log of all.txt");
    ASSERT_NE(record, nullptr);
    EXPECT_EQ(record->trust, LayoutTrust::damaged);
    EXPECT_THAT(record->notes, Contains("a list of its blocks is lost"));
    EXPECT_TRUE(std::any_of(record->layout.extents.begin(), record->layout.extents.end(),
                            [](const Extent& extent) { return extent.is_unknown(); }));
}

TEST(F2fsWalk, AVolumeIsFoundWithoutATableByEitherSuperblock) {
    const auto image = test::unpacked("f2fs-station");
    std::vector<std::byte> drive(1 << 20);
    drive.insert(drive.end(), image.begin(), image.end());
    const MemoryMedium medium(drive);
    for (const std::uint64_t at : {f2fs::kSuperBlockAt, f2fs::kSuperBlockAt + kBlock}) {
        const std::uint64_t place = (1 << 20) + at;
        const auto trace = f2fs::trace(medium, place, ByteView(std::span(drive).subspan(place, 4096)));
        ASSERT_TRUE(trace) << at;
        EXPECT_EQ(trace->filesystem, "F2FS");
        EXPECT_EQ(trace->label, "SKERRYCARD");
        EXPECT_EQ(trace->offset, 1U << 20U);
        EXPECT_EQ(trace->length, image.size());
    }
}

// Large volumes are not read whole: the summaries tell where nodes are.
TEST_P(F2fsMedia, SummariesTellWhichSegmentsHoldNodes) {
    const f2fs::Geometry g = geometry_of(GetParam());
    const auto image = test::unpacked(GetParam());
    std::vector<std::string> warnings;
    const auto tables = f2fs::Tables::read(std::make_shared<MemoryMedium>(image), g, warnings);
    std::size_t nodes = 0, told = 0, segments = 0;
    for (std::uint32_t segment = 0; segment < g.main_segments; ++segment) {
        const bool is_told = tables.holds_nodes(segment);
        segments += is_told ? 1 : 0;
        for (std::uint64_t i = 0; i < g.segment_blocks; ++i) {
            const std::uint64_t at = (g.first_of(segment) + i) * kBlock;
            if (at + kBlock > image.size()) break;
            const auto block = std::span(image).subspan(at, kBlock);
            if (!f2fs::parse_node_head(ByteView(block), g)) continue;
            ++nodes;
            told += is_told ? 1 : 0;
        }
    }
    EXPECT_GT(nodes, 100U);
    EXPECT_GE(told * 100, nodes * 95) << told << " of " << nodes << " in " << segments << " segments";
    EXPECT_LT(segments * 2, g.main_segments) << "most need not be read";
}

TEST(F2fsDirectory, TellsWhatIsThereAndWhatWasTakenOut) {
    const Walked walked("f2fs-station");
    const f2fs::Geometry g = geometry_of("f2fs-station");
    const auto image = test::unpacked("f2fs-station");
    // The block of a folder's entries from which most was taken out.
    std::size_t live = 0, gone = 0;
    for (std::uint64_t at = g.main_at * kBlock; at + kBlock <= image.size(); at += kBlock) {
        std::size_t here = 0, taken_out = 0;
        for (const f2fs::DirectoryEntry& entry : f2fs::read_entries(ByteView(std::span(image).subspan(at, kBlock))))
            if (entry.name.starts_with("Ring SK")) ++(entry.is_live ? here : taken_out);
        if (here > 0 && taken_out > gone) live = here, gone = taken_out;
    }
    EXPECT_GT(live, 20U);
    EXPECT_GT(gone, 5U);
}

}  // namespace
}  // namespace dredger

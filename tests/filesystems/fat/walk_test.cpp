// Walks fixture media that real drivers wrote, and the same media with single things damaged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "filesystems/fat/geometry.h"
#include "filesystems/filesystem.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::Collector;
using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;

TEST(FatWalk, Fat12) {
    const Walked walked("fat12-floppy");
    expect_truth(walked, "fat12-floppy", {"NESTS/OLD", "TERNS.TXT"});
    EXPECT_EQ(walked.filesystem->facts().filesystem, "FAT12");
    EXPECT_EQ(walked.filesystem->facts().label, "FERRYLOG");
    EXPECT_EQ(walked.filesystem->facts().serial, "5EA8-1D12");
    EXPECT_TRUE(walked.warnings.empty());
}

TEST(FatWalk, Fat16WithFragmentsAroundLiveFiles) {
    const Walked walked("fat16-card");
    expect_truth(walked, "fat16-card", {"Old cliff notes", "FILLER.BIN"});
    EXPECT_EQ(walked.found.find("Colony panorama.jpg")->layout.extents.size(), 8U);
    EXPECT_EQ(walked.found.find("Colony panorama.jpg")->trust, LayoutTrust::assumed);
    EXPECT_EQ(walked.found.find("Wardens only.csv")->layout.extents.size(), 4U);
}

TEST(FatWalk, Fat32WithFoldersOfManyClusters) { expect_truth(Walked("fat32-stick"), "fat32-stick"); }

TEST(FatWalk, ClearedHighHalvesAreInferredFromContent) {
    const Walked walked("fat32-cleared");
    expect_truth(walked, "fat32-cleared");
    EXPECT_THAT(walked.found.find("High/Evening count 1.jpg")->notes, Contains(HasSubstr("inferred from the content")));
    EXPECT_THAT(walked.found.find("High/Deeper")->notes, Contains(HasSubstr("found by its own entries")));
}

TEST(FatWalk, LostFirstLettersAreInferredOrSaidToBeLost) {
    const Walked card("fat16-card");
    const Record* nest = card.found.find("DCIM/100NESTS/NEST0011.JPG");
    ASSERT_NE(nest, nullptr);
    EXPECT_FALSE(nest->name_is_whole);
    EXPECT_THAT(nest->notes, Contains(HasSubstr("inferred from the names around it")));
    const Walked floppy("fat12-floppy");
    const Record* terns = floppy.found.find("_ERNS.TXT");
    ASSERT_NE(terns, nullptr);
    EXPECT_THAT(terns->notes, Contains(HasSubstr("lost")));
}

TEST(FatWalk, ALongNameWhoseEndIsOverwrittenIsCut) {
    const Walked card("fat16-card");
    const bool cut = std::any_of(card.found.records.begin(), card.found.records.end(), [](const Record& r) {
        return r.name.starts_with("Old cliff") && r.name.ends_with("….txt") && !r.name_is_whole;
    });
    const bool short_only = card.found.find("_LDCLI~1.TXT") != nullptr;
    EXPECT_TRUE(cut || short_only);
}

TEST(FatWalk, LiveRecordsComeFirst) {
    const Walked walked("fat16-card");
    bool deleted_seen = false;
    for (const Record& record : walked.found.records) {
        if (record.state != State::live) deleted_seen = true;
        EXPECT_FALSE(deleted_seen && record.state == State::live) << record.path();
    }
}

TEST(FatWalk, ASinkCanEndIt) {
    Walked walked("fat16-card");
    Collector few;
    few.most = 5;
    std::vector<std::string> warnings;
    ASSERT_TRUE(walked.filesystem->walk({}, few, warnings));
    EXPECT_EQ(few.records.size(), 5U);
}

TEST(FatWalk, TheBackupBootSectorStandsIn) {
    const Walked walked("fat32-stick", [](MemoryMedium& m, std::uint64_t volume) {
        for (unsigned i = 0; i < 512; ++i) m.patch(volume + i, 0);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("backup")));
    expect_truth(walked, "fat32-stick");
}

TEST(FatWalk, ADamagedFirstFatIsReplacedByTheSecond) {
    const Walked walked("fat16-card", [](MemoryMedium& m, std::uint64_t volume) {
        for (unsigned i = 512 * 4 + 200; i < 512 * 4 + 700; i += 2) m.patch(volume + i + 1, 0xA7);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("second is used")));
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("differ")));
    expect_truth(walked, "fat16-card", {"Old cliff notes", "FILLER.BIN"});
}

TEST(FatWalk, AnUnreadableFirstFatIsReplacedByTheSecond) {
    const Walked walked("fat16-card", [](MemoryMedium& m, std::uint64_t volume) {
        m.make_unreadable({volume + 4 * 512, 512});
    });
    expect_truth(walked, "fat16-card", {"Old cliff notes", "FILLER.BIN"});
}

TEST(FatWalk, UnreadableFoldersAreSaid) {
    const Walked plain("fat16-card");
    const Record* folder = plain.found.find("DCIM", State::live);
    ASSERT_NE(folder, nullptr);
    const std::uint64_t entries_of_nests =
        plain.found.find("DCIM/100NESTS/NEST0001.JPG", State::live)->identity.number / 512 * 512;
    const Walked walked("fat16-card", [&](MemoryMedium& m, std::uint64_t volume) {
        m.make_unreadable({volume + entries_of_nests, 512});
    });
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("512 bytes of folders can't be read")));
    EXPECT_EQ(walked.found.find("DCIM/100NESTS/NEST0001.JPG", State::live), nullptr);
    EXPECT_NE(walked.found.find("LOGS/TIDE01.TXT", State::live), nullptr);
}

TEST(FatWalk, AChainThatStillStandsInTheOtherFatIsFollowed) {
    // The deleted NEST0003.JPG gets its chain back, in the second FAT only: 16 clusters from its first one on.
    const Walked plain("fat16-card");
    const Record* nest = plain.found.find("DCIM/100NESTS/NEST0003.JPG");
    ASSERT_NE(nest, nullptr);
    const auto geometry = fat::parse_boot_sector(ByteView(plain.volume->bytes(0, 512).value()), plain.volume->size());
    const std::uint64_t first = 2 + (nest->layout.extents[0].offset - geometry->data_offset) / geometry->cluster_size;
    const std::uint64_t count = divide_up(nest->size, plain.filesystem->facts().cluster_size);
    const Walked walked("fat16-card", [&](MemoryMedium& m, std::uint64_t volume) {
        const std::uint64_t second = volume + geometry->fat_offset + geometry->fat_size;
        for (std::uint64_t i = 0; i < count; ++i) {
            const std::uint64_t next = i + 1 < count ? first + i + 1 : 0xFFFF;
            m.patch(second + (first + i) * 2, static_cast<std::uint8_t>(next));
            m.patch(second + (first + i) * 2 + 1, static_cast<std::uint8_t>(next >> 8));
        }
    });
    const Record* again = walked.found.find("DCIM/100NESTS/NEST0003.JPG");
    ASSERT_NE(again, nullptr);
    EXPECT_EQ(again->trust, LayoutTrust::exact);
    EXPECT_THAT(again->notes, Contains(HasSubstr("other FAT")));
}

// Finds the live entry with this short name on the medium.
std::uint64_t entry_of(const MemoryMedium& medium, std::string_view eleven) {
    const auto all = medium.bytes(0, static_cast<std::size_t>(medium.size())).value();
    const ByteView view(all);
    for (std::uint64_t at = 0; at + 32 <= all.size(); at += 32)
        if (view.has(at, eleven)) return at;
    ADD_FAILURE() << "no entry " << eleven;
    return 0;
}

TEST(FatWalk, AFolderThatContainsItselfEnds) {
    const Walked walked("fat12-floppy", [](MemoryMedium& m, std::uint64_t) {
        const std::uint64_t nests = entry_of(m, "NESTS      ");
        const std::uint64_t inner = entry_of(m, "NEST03  JPG");
        m.patch(inner + 11, 0x10);  // now a folder: the one it lies in
        for (unsigned i = 28; i < 32; ++i) m.patch(inner + i, 0);
        for (const unsigned i : {26U, 27U})
            m.patch(inner + i, static_cast<std::uint8_t>(m.bytes(nests + i, 1).value()[0]));
    });
    EXPECT_NE(walked.found.find("NESTS/NEST03.JPG", State::live), nullptr);
    EXPECT_EQ(walked.found.find("NESTS/NEST03.JPG/NEST01.JPG", State::live), nullptr);
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("chain")));
}

TEST(FatWalk, AChainThatRunsInACircleEnds) {
    const Walked walked("fat12-floppy", [](MemoryMedium& m, std::uint64_t) {
        const std::uint64_t auks = entry_of(m, "AUKS    CSV");
        for (unsigned i = 28; i < 32; ++i) m.patch(auks + i, i == 30 ? 0x10 : 0);  // claims 1 MiB
        const auto first = to_integer<unsigned>(m.bytes(auks + 26, 1).value()[0]);
        const std::uint64_t pair = 512 + (first & ~1U) * 3 / 2;  // FAT12: its entry now leads to itself
        if (first % 2 == 0) {
            m.patch(pair, static_cast<std::uint8_t>(first));
            m.patch(pair + 1, static_cast<std::uint8_t>(to_integer<unsigned>(m.bytes(pair + 1, 1).value()[0]) & 0xF0U));
        } else {
            m.patch(pair + 1, static_cast<std::uint8_t>(
                                  (to_integer<unsigned>(m.bytes(pair + 1, 1).value()[0]) & 0x0FU) | first << 4));
            m.patch(pair + 2, static_cast<std::uint8_t>(first >> 4));
        }
    });
    const Record* auks = walked.found.find("auks.csv", State::live);
    ASSERT_NE(auks, nullptr);
    ASSERT_EQ(auks->layout.extents.size(), 1U);
    EXPECT_LE(auks->layout.extents[0].length, walked.filesystem->facts().cluster_size);
    EXPECT_THAT(auks->notes, Contains(HasSubstr("damaged")));
}

TEST(FatWalk, ALongNameThatIsGarbageLeavesTheShortOne) {
    const Walked walked("fat32-stick", [](MemoryMedium& m, std::uint64_t) {
        const std::uint64_t schedule = entry_of(m, "BOATSC~1CSV");
        for (unsigned i = 1; i < 11; ++i) m.patch(schedule - 32 + i, i % 2);  // control characters
    });
    EXPECT_NE(walked.found.find("Kept/BOATSC~1.CSV", State::live), nullptr);
}

TEST(FatWalk, LongNamePiecesOfAnotherFileAreNotGluedOn) {
    const Walked walked("fat32-stick", [](MemoryMedium& m, std::uint64_t) {
        // The live entry loses its tie to the pieces before it.
        const std::uint64_t schedule = entry_of(m, "BOATSC~1CSV");
        for (unsigned i = 0; i < 8; ++i) m.patch(schedule + i, static_cast<std::uint8_t>("GUILLEMO"[i]));
    });
    EXPECT_NE(walked.found.find("Kept/GUILLEMO.CSV", State::live), nullptr);
}

TEST(FatWalk, ARootOutsideTheVolumeIsSaid) {
    const Walked walked("fat32-stick",
                        [](MemoryMedium& m, std::uint64_t volume) { m.patch32(volume + 44, 0x0FFFFFF0); });
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("root directory")));
    // The deleted folders below it tell of themselves.
    for (const Record& record : walked.found.records) {
        EXPECT_EQ(record.origin, Origin::remnant) << record.path();
        EXPECT_TRUE(record.folder.starts_with("(")) << record.path();
    }
    EXPECT_GT(walked.found.records.size(), 50U);
}

TEST(FatWalk, AnEntryThatLeadsToNoFolderIsSaid) {
    const Walked walked("fat12-floppy", [](MemoryMedium& m, std::uint64_t) {
        const std::uint64_t gulls = entry_of(m, "GULLS   TXT");
        m.patch(gulls + 11, 0x10);
        for (unsigned i = 28; i < 32; ++i) m.patch(gulls + i, 0);
    });
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("no entries that make sense")));
}

TEST(FatWalk, AFolderWhoseEntryIsOverwrittenIsFoundByItsClusters) {
    const Walked walked("fat32-stick", [](MemoryMedium& m, std::uint64_t) {
        const std::uint64_t survey = entry_of(m, "\xE5URVEY~1   ");
        for (unsigned i = 0; i < 32; ++i) m.patch(survey + i, i == 0 ? 0xE5 : 0xFF);
    });
    std::map<std::string, const Record*> by_name;
    for (const Record& record : walked.found.records) by_name[record.name] = &record;
    const Record* nest = by_name["Nest 05 seen from below.jpg"];
    ASSERT_NE(nest, nullptr);
    EXPECT_TRUE(nest->folder.starts_with("(folder ") && nest->folder.ends_with("/Photos/Stack 2")) << nest->folder;
    EXPECT_EQ(nest->origin, Origin::remnant);
    EXPECT_THAT(nest->notes, Contains(HasSubstr("overwritten")));
    const auto truth = test::truth_of("fat32-stick");
    for (const auto& file : truth["files"]) {
        const std::string path = file["path"];
        if (file["directory"] || !path.starts_with("Survey")) continue;
        const Record* record = by_name[path.substr(path.rfind('/') + 1)];
        ASSERT_NE(record, nullptr) << path;
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << path;
    }
}

TEST(FatWalk, WhatARenameLeftBehindIsNotADeletedFile) {
    const Walked walked("fat12-floppy", [](MemoryMedium& m, std::uint64_t) {
        // A deleted entry that points to what a live one still holds, as a rename leaves it.
        const std::uint64_t live = entry_of(m, "GULLS   TXT");
        const std::uint64_t deleted = entry_of(m,
                                               "\xE5"
                                               "ERNS   TXT");
        for (unsigned i = 11; i < 32; ++i)
            m.patch(deleted + i, static_cast<std::uint8_t>(m.bytes(live + i, 1).value()[0]));
    });
    EXPECT_EQ(walked.found.find("_ERNS.TXT"), nullptr);
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("earlier names")));
}

// Formatting cleared the first cluster of the root; the others list folders that say of themselves that they lie there.
TEST(FatWalk, TheLaterClustersOfAFormerRootJoinAgain) {
    const Walked walked("fat32-rooted");
    const auto truth = test::truth_of("fat32-rooted");
    std::size_t named = 0;
    for (const auto& file : truth["files"]) {
        const Record* record = walked.found.find(file["path"], State::lost);
        if (record == nullptr) continue;
        ++named;
        EXPECT_EQ(record->origin, Origin::remnant);
        if (!file["directory"]) {
            EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
        }
    }
    EXPECT_GE(named, 44U) << "what is missing stood in the first cluster";
    for (const Record& record : walked.found.records)
        EXPECT_FALSE(record.folder.starts_with("(part of a folder")) << record.path();
}

}  // namespace
}  // namespace dredger

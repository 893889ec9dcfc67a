// Walks APFS containers that the Linux driver wrote, and the same containers with single things damaged.
#include "filesystems/apfs/walk.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "filesystems/apfs/apfs.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::SizeIs;

// All bytes of a block, with the checksum that they then have.
void rewrite(MemoryMedium& medium, std::uint64_t block, const std::vector<std::byte>& bytes) {
    for (std::size_t i = 0; i < bytes.size(); ++i)
        medium.patch(block * 4096 + i, std::to_integer<std::uint8_t>(bytes[i]));
}

TEST(ApfsWalk, GivesBackEveryLiveFile) {
    for (const char* fixture : {"apfs-station", "apfs-snapshot"}) {
        const Walked walked(fixture);
        test::expect_live(walked, fixture);
        EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
        EXPECT_THAT(walked.warnings, IsEmpty());
    }
}

TEST(ApfsWalk, FilesComeBackFromOldNodesAndFromWhatIsLeftInThem) {
    const Walked walked("apfs-station");
    EXPECT_EQ(test::deleted_that_come_back(walked, "apfs-station"), 15U);
    const Record* record = walked.found.find("Calls/Níðhöggur – Kolonie.wav");
    ASSERT_NE(record, nullptr);
    EXPECT_EQ(record->origin, Origin::remnant);
    EXPECT_TRUE(record->deleted);
    EXPECT_THAT(record->notes, Contains("an older transaction tells of it"));
}

TEST(ApfsWalk, WhatASnapshotHoldsSaysSo) {
    const Walked walked("apfs-snapshot");
    const auto roots = walked.filesystem->roots();
    ASSERT_THAT(roots, SizeIs(2));
    EXPECT_EQ(roots[0].label, "Atlas");
    EXPECT_EQ(roots[1].label, "Before tidying");
    EXPECT_TRUE(roots[1].is_snapshot);
    const Record* gone = walked.found.find("Nests/Ledge 1/Puffin 1.jpg");
    ASSERT_NE(gone, nullptr);
    EXPECT_EQ(gone->origin, Origin::record);
    EXPECT_THAT(gone->notes, Contains("it lives on in the snapshot Before tidying"));
    const Record* kept = walked.found.find("(snapshot Before tidying)/Nests/Ledge 1/Puffin 1.jpg", State::live);
    ASSERT_NE(kept, nullptr);
    EXPECT_EQ(kept->content_key(), gone->content_key());
    const Record* after = walked.found.find("After.jpg");
    ASSERT_NE(after, nullptr) << "written and deleted after the snapshot";
    EXPECT_EQ(after->origin, Origin::remnant);
}

TEST(ApfsWalk, HardLinksShareTheirContent) {
    const Walked walked("apfs-station");
    const Record *first = walked.found.find("Keep me.txt", State::live),
                 *second = walked.found.find("Kept twice.txt", State::live);
    ASSERT_TRUE(first != nullptr && second != nullptr);
    EXPECT_EQ(first->content_key(), second->content_key());
    const Record* link = walked.found.find("Shortcut", State::live);
    ASSERT_NE(link, nullptr);
    EXPECT_EQ(link->size, std::string("Keep me.txt").size());
}

TEST(ApfsWalk, FactsComeFromTheContainerAndItsVolume) {
    const Walked walked("apfs-station");
    const VolumeFacts& facts = walked.filesystem->facts();
    EXPECT_EQ(facts.filesystem, "APFS");
    EXPECT_EQ(facts.label, "Colony");
    EXPECT_EQ(facts.serial, "0f3a9c52-1111-4222-8333-444455556666");
    EXPECT_EQ(facts.cluster_size, 4096U);
    EXPECT_EQ(facts.size, 520U << 20);
    EXPECT_LT(facts.used, 64U << 20);
}

TEST(ApfsWalk, ADamagedNewestCheckpointFallsBackToAnOlderOne) {
    std::vector<std::string> warnings;
    const auto image = std::make_shared<const std::vector<std::byte>>(test::unpacked("apfs-station"));
    const auto whole = apfs::Container::open(std::make_shared<MemoryMedium>(image), warnings);
    ASSERT_TRUE(whole);
    ASSERT_GT(whole->checkpoints().size(), 1U);
    const std::uint64_t newest = whole->super().nx_o.o_xid;
    const Walked walked("apfs-station", [&](MemoryMedium& medium, std::uint64_t) {
        const apfs::NxSuperblock& super = whole->super();
        for (std::uint32_t i = 0; i < super.nx_xp_desc_blocks; ++i) {
            const auto bytes = whole->blocks().raw(super.nx_xp_desc_base + i);
            const auto object = ByteView(*bytes).as<apfs::ObjPhys>(0).value();
            if (object.o_xid == newest) medium.patch((super.nx_xp_desc_base + i) * 4096 + 200, 0xA5);
        }
    });
    const auto& found = walked.found.records;
    EXPECT_GT(std::count_if(found.begin(), found.end(), [](const Record& r) { return r.state == State::live; }), 20);
}

TEST(ApfsWalk, WithoutAnyCheckpointTheSuperblockAtTheStartOpensIt) {
    const Walked walked("apfs-station", [](MemoryMedium& medium, std::uint64_t) {
        const auto super = apfs::parse_superblock(ByteView(medium.bytes(0, 4096).value())).value();
        for (std::uint64_t i = 0; i < super.nx_xp_desc_blocks; ++i)
            medium.patch((super.nx_xp_desc_base + i) * 4096 + 100, 0xA5);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("its checkpoints are damaged")));
}

TEST(ApfsWalk, AnEncryptedVolumeIsNamedAndNotRead) {
    std::vector<std::string> warnings;
    const auto image = std::make_shared<const std::vector<std::byte>>(test::unpacked("apfs-station"));
    const auto container = apfs::Container::open(std::make_shared<MemoryMedium>(image), warnings);
    ASSERT_TRUE(container);
    apfs::ObjectMap map;
    ASSERT_TRUE(map.read(container->blocks(), container->super().nx_omap_oid));
    const auto place = map.find(container->super().nx_fs_oid[0], container->super().nx_o.o_xid);
    ASSERT_TRUE(place);
    auto bytes = *container->blocks().raw(place->paddr);
    bytes[offsetof(apfs::ApfsSuperblock, apfs_fs_flags)] = std::byte{0};
    const std::uint64_t sum = apfs::sum_of(bytes);
    for (unsigned i = 0; i < 8; ++i) bytes[i] = static_cast<std::byte>(sum >> (8 * i));
    ASSERT_TRUE(apfs::has_right_sum(bytes));
    const Walked walked("apfs-station",
                        [&](MemoryMedium& medium, std::uint64_t) { rewrite(medium, place->paddr, bytes); });
    EXPECT_THAT(walked.found.records, IsEmpty());
    EXPECT_THAT(walked.warnings, Contains(HasSubstr("\"Colony\" is encrypted")));
}

TEST(ApfsTrace, ASuperblockAndACheckpointTellWhereTheContainerBegins) {
    const MemoryMedium medium(test::unpacked("apfs-station"));
    const auto bytes = medium.bytes(0, 4096).value();
    const auto trace = apfs::trace(medium, 0, ByteView(bytes));
    ASSERT_TRUE(trace);
    EXPECT_EQ(trace->length, 520U << 20);
    // Those in the ring of checkpoints lead to the same start, also where it is lost.
    const auto super = apfs::parse_superblock(ByteView(bytes)).value();
    MemoryMedium headless(test::unpacked("apfs-station"));
    for (std::uint64_t i = 0; i < 4096; ++i) headless.patch(i, 0);
    unsigned seen = 0;
    for (std::uint64_t i = 0; i < super.nx_xp_desc_blocks; ++i) {
        const std::uint64_t at = (super.nx_xp_desc_base + i) * 4096;
        const auto there = headless.bytes(at, 4096).value();
        if (!ByteView(there).has(32, "NXSB")) continue;
        const auto found = apfs::trace(headless, at, ByteView(there, at));
        ASSERT_TRUE(found) << i;
        EXPECT_EQ(found->offset, 0U);
        ++seen;
    }
    EXPECT_GT(seen, 1U);
}

TEST(ApfsWalk, AContainerWhoseFirstBlockIsLostOpensByACheckpoint) {
    const Walked walked("apfs-station", [](MemoryMedium& medium, std::uint64_t) {
        for (std::uint64_t i = 0; i < 4096; ++i) medium.patch(i, 0);
    });
    test::expect_live(walked, "apfs-station");
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("that of a checkpoint is used")));
}

TEST(ApfsWalk, AnImageThatIsCutShortGivesWhatIsThere) {
    const Walked walked("apfs-station", [](MemoryMedium& medium, std::uint64_t) { medium.cut_at(500ULL << 20); });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("it is cut short")));
}

}  // namespace
}  // namespace dredger

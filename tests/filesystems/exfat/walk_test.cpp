// Walks exFAT media that the kernel's driver wrote, and the same media with single things damaged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "filesystems/exfat/entry_set.h"
#include "filesystems/exfat/geometry.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

// The 32 bytes at `offset` of the volume.
exfat::Slot slot_at(const Walked& walked, std::uint64_t offset) {
    exfat::Slot slot;
    const auto bytes = walked.volume->bytes(offset, exfat::kEntrySize).value();
    std::memcpy(slot.bytes, bytes.data(), bytes.size());
    return slot;
}

// Writes a set back with some of its bytes changed, and with the checksum that it then has.
void patch_set(MemoryMedium& medium, std::uint64_t volume, const Walked& whole, std::uint64_t set,
               const std::map<std::size_t, std::uint8_t>& changes) {
    std::vector<exfat::Slot> slots;
    const std::size_t count = slot_at(whole, set).bytes[1] + std::size_t{1};
    for (std::size_t i = 0; i < count; ++i) slots.push_back(slot_at(whole, set + i * exfat::kEntrySize));
    for (const auto& [at, value] : changes) slots[at / 32].bytes[at % 32] = value;
    const std::uint16_t sum = exfat::set_checksum(slots.data(), count);
    slots[0].bytes[2] = static_cast<std::uint8_t>(sum);
    slots[0].bytes[3] = static_cast<std::uint8_t>(sum >> 8U);
    for (std::size_t i = 0; i < count; ++i)
        for (std::size_t b = 0; b < 32; ++b) medium.patch(volume + set + i * 32 + b, slots[i].bytes[b]);
}

TEST(ExfatWalk, EverythingThatWasDeletedAndMoved) {
    const Walked walked("exfat-card");
    expect_truth(walked, "exfat-card");
    EXPECT_EQ(walked.filesystem->facts().filesystem, "exFAT");
    EXPECT_EQ(walked.filesystem->facts().label, "NESTCAM");
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, ElementsAre(HasSubstr("earlier names of what is still there")));
    EXPECT_EQ(walked.found.find("Moved later.jpg"), nullptr) << "it is not deleted";
}

TEST(ExfatWalk, TheChainsOfDeletedFilesStayInTheFat) {
    const Walked walked("exfat-card");
    for (const char* path : {"Colony panorama.jpg", "Wardens only.csv"}) {
        const Record* record = walked.found.find(path);
        ASSERT_NE(record, nullptr) << path;
        EXPECT_GT(record->layout.extents.size(), 3U) << path;
        EXPECT_EQ(record->trust, LayoutTrust::exact) << path;
    }
}

TEST(ExfatWalk, AFolderWithoutAnEntryIsFoundByItsClusters) {
    const Walked walked("exfat-worn");
    expect_truth(walked, "exfat-worn", {"S"});
    std::size_t reports = 0;
    for (const Record& record : walked.found.records) {
        if (!record.name.starts_with("Report ")) continue;
        ++reports;
        EXPECT_TRUE(record.folder.starts_with("(folder ")) << record.path();
        EXPECT_EQ(record.origin, Origin::remnant);
        EXPECT_THAT(record.notes, Contains(HasSubstr("the number of a cluster stands for it")));
    }
    EXPECT_EQ(reports, 8U);
}

TEST(ExfatWalk, WhatWasNeverWrittenIsZeros) {
    const Walked whole("exfat-card");
    const Record* photo = whole.found.find("DCIM/100NESTS/NEST0003.JPG");
    ASSERT_NE(photo, nullptr);
    // ValidDataLength, bytes 8 to 15 of the second entry: 5000.
    const Walked walked("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        patch_set(medium, volume, whole, photo->identity.number, {{40, 0x88}, {41, 0x13}, {42, 0}});
    });
    const Record* cut = walked.found.find("DCIM/100NESTS/NEST0003.JPG");
    ASSERT_NE(cut, nullptr);
    EXPECT_EQ(cut->size, photo->size);
    EXPECT_THAT(cut->layout.extents,
                ElementsAre(Extent{photo->layout.extents[0].offset, 5000}, Extent::zeros(photo->size - 5000)));
}

TEST(ExfatWalk, ZonesAreTakenIntoAccount) {
    const Walked whole("exfat-card");
    const Record* photo = whole.found.find("DCIM/100NESTS/NEST0003.JPG");
    ASSERT_NE(photo, nullptr);
    // LastModifiedUtcOffset: two hours east; then a zone that is not told.
    const Walked east("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        patch_set(medium, volume, whole, photo->identity.number, {{23, 0x88}});
    });
    EXPECT_EQ(east.found.find("DCIM/100NESTS/NEST0003.JPG")->modified->seconds, photo->modified->seconds - 7200);
    const Walked untold("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        patch_set(medium, volume, whole, photo->identity.number, {{23, 0}});
    });
    EXPECT_EQ(untold.found.find("DCIM/100NESTS/NEST0003.JPG")->modified->clock, FileTime::Clock::local);
}

TEST(ExfatWalk, ASetWithoutItsFirstEntryIsProvenByItsNamesHash) {
    const Walked whole("exfat-card");
    const Record* photo = whole.found.find("DCIM/100NESTS/NEST0011.JPG");
    ASSERT_NE(photo, nullptr);
    const Walked walked("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch(volume + photo->identity.number, 0x41);
    });
    const Record* still = walked.found.find("DCIM/100NESTS/NEST0011.JPG");
    ASSERT_NE(still, nullptr);
    EXPECT_EQ(walked.sum_of(*still), whole.sum_of(*photo));
    EXPECT_FALSE(still->modified);
    EXPECT_THAT(still->notes, Contains(HasSubstr("first of its directory entries is overwritten")));
}

TEST(ExfatWalk, ACutNameIsSaidToBeCut) {
    const Walked whole("exfat-card");
    const Record* panorama = whole.found.find("Colony panorama.jpg");
    ASSERT_NE(panorama, nullptr);
    const Walked walked("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch(volume + panorama->identity.number + 3 * 32, 0x85);
    });
    const Record* cut = walked.found.find("Colony panoram");
    ASSERT_EQ(cut, nullptr) << "a piece has fifteen letters";
    cut = walked.found.find("Colony panorama");
    ASSERT_NE(cut, nullptr);
    EXPECT_FALSE(cut->name_is_whole);
    EXPECT_EQ(walked.sum_of(*cut), whole.sum_of(*panorama));
}

TEST(ExfatWalk, ABrokenChainIsAssumedToGoOn) {
    const Walked whole("exfat-card");
    const Record* panorama = whole.found.find("Colony panorama.jpg");
    const auto boot = whole.volume->bytes(0, 512).value();
    const auto geometry = exfat::parse_boot_sector(ByteView(boot), whole.volume->size());
    ASSERT_TRUE(geometry);
    const std::uint64_t first =
        2 + (panorama->layout.extents[0].offset - geometry->heap_offset) / geometry->cluster_size;
    const Walked walked("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch32(volume + geometry->fat_offset + first * 4, 0);
    });
    const Record* broken = walked.found.find("Colony panorama.jpg");
    ASSERT_NE(broken, nullptr);
    EXPECT_EQ(broken->trust, LayoutTrust::assumed);
    std::uint64_t laid = 0;
    for (const Extent& extent : broken->layout.extents) laid += extent.length;
    EXPECT_EQ(laid, broken->size);
}

TEST(ExfatWalk, CirclesInTheFatEnd) {
    const Walked whole("exfat-card");
    const Record* panorama = whole.found.find("Colony panorama.jpg");
    const auto boot = whole.volume->bytes(0, 512).value();
    const auto geometry = exfat::parse_boot_sector(ByteView(boot), whole.volume->size());
    const auto first = static_cast<std::uint32_t>(2 + (panorama->layout.extents[0].offset - geometry->heap_offset) /
                                                          geometry->cluster_size);
    const Walked walked("exfat-card", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch32(volume + geometry->fat_offset + first * 4, first);
    });
    EXPECT_NE(walked.found.find("Colony panorama.jpg"), nullptr);
}

TEST(ExfatWalk, TheBackupBootRegionIsEnough) {
    const Walked walked("exfat-card", [](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t at = 0; at < 512; ++at) medium.patch(volume + at, 0);
    });
    expect_truth(walked, "exfat-card");
    EXPECT_THAT(walked.filesystem->facts().warnings, ElementsAre(HasSubstr("its backup is used")));
}

TEST(ExfatWalk, ABootRegionWithAWrongChecksumGivesWayToItsBackup) {
    const Walked walked("exfat-card", [](MemoryMedium& medium, std::uint64_t volume) { medium.patch(volume + 96, 9); });
    expect_truth(walked, "exfat-card");
    EXPECT_THAT(walked.filesystem->facts().warnings, ElementsAre(HasSubstr("its backup is used")));
}

TEST(ExfatWalk, OnlyLiveOnesWhenAskedFor) {
    const Walked all("exfat-card");
    WalkOptions options;
    options.live_only = true;
    test::Collector live;
    std::vector<std::string> warnings;
    ASSERT_TRUE(all.filesystem->walk(options, live, warnings));
    EXPECT_GT(live.records.size(), 30U);
    for (const Record& record : live.records) EXPECT_EQ(record.state, State::live) << record.path();
}

TEST(ExfatUpcase, HashesAreMadeOfUpperCaseLetters) {
    const exfat::Upcase ascii;
    EXPECT_EQ(ascii.hash(u"nest.jpg"), ascii.hash(u"NEST.JPG"));
    EXPECT_NE(ascii.hash(u"nest.jpg"), ascii.hash(u"nets.jpg"));
    // 97 letters that are their own upper case, then a to A.
    const std::uint8_t table[] = {0xFF, 0xFF, 97, 0, 'A', 0, 0xFF, 0xFF, 0x9E, 0xFF};
    const auto parsed = exfat::Upcase::parse(ByteView(std::as_bytes(std::span(table))));
    EXPECT_EQ(parsed.hash(u"a"), parsed.hash(u"A"));
    EXPECT_NE(parsed.hash(u"b"), parsed.hash(u"B"));
}

TEST(ExfatGeometry, RefusesWhatCanNotBe) {
    const auto image = test::unpacked("exfat-worn");
    const auto with = [&](std::size_t at, std::uint8_t value) {
        std::vector<std::byte> sector(image.begin(), image.begin() + 512);
        sector[at] = static_cast<std::byte>(value);
        return exfat::parse_boot_sector(ByteView(sector), image.size());
    };
    ASSERT_TRUE(with(0, 0xEB));
    EXPECT_EQ(with(0, 0xEB)->cluster_size, 2048U);
    EXPECT_FALSE(with(3, 'x'));
    EXPECT_FALSE(with(108, 8)) << "sectors of 256 bytes";
    EXPECT_FALSE(with(109, 17)) << "clusters of 64 MiB";
    EXPECT_FALSE(with(110, 0));
    EXPECT_FALSE(with(81, 0xFF)) << "a FAT behind the clusters";
    EXPECT_LT(with(95, 0xFF)->cluster_count, 4000U) << "no more clusters than there is room for";
}

}  // namespace
}  // namespace dredger

#include "filesystems/fat/geometry.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "support/support.h"

namespace dredger::fat {
namespace {

using testing::HasSubstr;

struct Boot {
    std::vector<std::byte> bytes;
    std::uint64_t volume_size;

    explicit Boot(const std::string& fixture) {
        const auto image = test::unpacked(fixture);
        const auto volume = test::truth_of(fixture)["volumes"][0];
        const auto offset = volume["offset"].get<std::ptrdiff_t>();
        bytes.assign(image.begin() + offset, image.begin() + offset + 512);
        volume_size = volume["length"];
    }
    Boot& set8(std::size_t at, unsigned value) {
        bytes[at] = static_cast<std::byte>(value);
        return *this;
    }
    Boot& set16(std::size_t at, unsigned value) { return set8(at, value & 0xFF).set8(at + 1, value >> 8); }
    Boot& set32(std::size_t at, std::uint32_t value) { return set16(at, value & 0xFFFF).set16(at + 2, value >> 16); }
    std::optional<Geometry> parse() const { return parse_boot_sector(ByteView(bytes), volume_size); }
};

constexpr std::size_t kBytsPerSec = 11, kSecPerClus = 13, kRsvdSecCnt = 14, kNumFATs = 16, kTotSec16 = 19,
                      kFATSz16 = 22, kTotSec32 = 32, kFATSz32 = 36;

TEST(FatGeometry, TellsTheThreeApartByTheirClusters) {
    EXPECT_EQ(Boot("fat12-floppy").parse()->width, Width::fat12);
    EXPECT_EQ(Boot("fat16-card").parse()->width, Width::fat16);
    EXPECT_EQ(Boot("fat32-stick").parse()->width, Width::fat32);
}

TEST(FatGeometry, TheNameInTheBootSectorCountsForNothing) {
    Boot boot("fat12-floppy");
    for (std::size_t i = 0; i < 8; ++i) boot.set8(54 + i, static_cast<unsigned char>("FAT32   "[i]));
    EXPECT_EQ(boot.parse()->width, Width::fat12);
}

TEST(FatGeometry, TheClusterCountDecidesAtItsBorders) {
    // A floppy's layout with as many sectors as make 4084 and 4085 clusters, and FATs that have room for them.
    for (const auto& [clusters, width] :
         {std::pair{4084U, Width::fat12}, std::pair{4085U, Width::fat16}, std::pair{65524U, Width::fat16}}) {
        Boot boot("fat12-floppy");
        boot.set8(kSecPerClus, 1).set16(kFATSz16, 256);
        const std::uint64_t data = boot.parse()->data_offset / 512;
        boot.set16(kTotSec16, 0).set32(kTotSec32, static_cast<std::uint32_t>(data + clusters));
        boot.volume_size = (data + clusters) * 512;
        EXPECT_EQ(boot.parse()->width, width) << clusters;
        EXPECT_EQ(boot.parse()->cluster_count, clusters);
    }
}

TEST(FatGeometry, KnowsWhereThingsLie) {
    const auto g = Boot("fat12-floppy").parse();
    EXPECT_EQ(g->fat_offset, 512U);
    EXPECT_EQ(g->fat_count, 2U);
    EXPECT_EQ(g->root_entries, 224U);
    EXPECT_EQ(g->data_offset, 512 + 2 * g->fat_size + 224 * 32);
    EXPECT_EQ(g->offset_of(2), g->data_offset);
    EXPECT_TRUE(g->holds(g->last_cluster()));
    EXPECT_FALSE(g->holds(g->last_cluster() + 1));
    EXPECT_FALSE(g->holds(1));
    EXPECT_EQ(g->label, "FERRYLOG");
    EXPECT_EQ(g->volume_id, 0x5EA81D12U);
}

TEST(FatGeometry, AClusterCountThatLiesIsCutToWhatTheFatHolds) {
    const auto honest = Boot("fat32-stick").parse();
    const auto lying = Boot("fat32-stick").set32(kTotSec32, 0x7FFFFFFF).parse();
    ASSERT_TRUE(lying);
    EXPECT_EQ(lying->cluster_count, honest->cluster_count) << "it also has to lie on the volume";
    EXPECT_THAT(lying->warnings.front(), HasSubstr("FAT has entries for"));
}

TEST(FatGeometry, WhatLiesBeyondTheEndIsCutOff) {
    Boot boot("fat32-stick");
    boot.volume_size = 10 << 20;
    const auto g = boot.parse();
    EXPECT_LE(g->offset_of(g->last_cluster()) + g->cluster_size, boot.volume_size);
    EXPECT_THAT(g->warnings.front(), HasSubstr("beyond the end"));
}

TEST(FatGeometry, NonsenseIsNoBootSector) {
    for (const auto& [field, value] :
         {std::pair{kBytsPerSec, 0U}, std::pair{kBytsPerSec, 513U}, std::pair{kBytsPerSec, 8192U},
          std::pair{kRsvdSecCnt, 0U}, std::pair{kTotSec16, 5U}})
        EXPECT_FALSE(Boot("fat12-floppy").set16(field, value).parse()) << field << " " << value;
    EXPECT_FALSE(Boot("fat12-floppy").set8(kSecPerClus, 3).parse());
    EXPECT_FALSE(Boot("fat12-floppy").set8(kSecPerClus, 0).parse());
    EXPECT_FALSE(Boot("fat12-floppy").set8(kNumFATs, 0).parse());
    EXPECT_FALSE(Boot("fat12-floppy").set8(0, 0).parse());
    EXPECT_FALSE(Boot("fat32-stick").set32(kFATSz32, 0).parse());
    EXPECT_FALSE(Boot("fat32-stick").set32(kFATSz32, 0xFFFFFFFF).parse());
    EXPECT_FALSE(parse_boot_sector(ByteView(std::vector<std::byte>(40)), 1 << 20));
}

TEST(FatGeometry, AnUnmirroredFatIsTheActiveOne) {
    const auto g = Boot("fat32-stick").set16(40, 0x81).parse();
    EXPECT_FALSE(g->mirrored);
    EXPECT_EQ(g->active_fat, 1U);
}

}  // namespace
}  // namespace dredger::fat

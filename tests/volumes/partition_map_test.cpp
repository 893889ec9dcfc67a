#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>

#include "support/support.h"
#include "volumes/volume.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using test::truth_of;
using test::unpacked;
using testing::HasSubstr;

void expect_volumes_as_in_truth(const std::string& name, TableKind table) {
    const auto map = read_partition_map(MemoryMedium(unpacked(name)));
    ASSERT_TRUE(map);
    EXPECT_EQ(map->table, table);
    EXPECT_TRUE(map->warnings.empty()) << map->warnings.front();
    const auto truth = truth_of(name)["volumes"];
    ASSERT_EQ(map->volumes.size(), truth.size());
    for (std::size_t i = 0; i < truth.size(); ++i) {
        EXPECT_EQ(map->volumes[i].number, i + 1);
        EXPECT_EQ(map->volumes[i].offset, truth[i]["offset"].get<std::uint64_t>());
        EXPECT_EQ(map->volumes[i].table, table);
    }
}

TEST(PartitionMap, ReadsPrimaryPartitions) { expect_volumes_as_in_truth("fat16-card", TableKind::mbr); }
TEST(PartitionMap, FollowsTheChainOfLogicalPartitions) { expect_volumes_as_in_truth("mbr-chain", TableKind::mbr); }
TEST(PartitionMap, ReadsGpt) { expect_volumes_as_in_truth("fat32-stick", TableKind::gpt); }
TEST(PartitionMap, ReadsMapsOfTheMacInBlocksOfAnySize) {
    expect_volumes_as_in_truth("apm-disc-512", TableKind::apm);
    expect_volumes_as_in_truth("apm-disc-2048", TableKind::apm);
    const auto map = read_partition_map(MemoryMedium(unpacked("apm-disc-512"))).value();
    EXPECT_EQ(map.volumes[0].type, "HFS+");
}
TEST(PartitionMap, AMapOfTheMacIsReadWithoutItsFirstBlock) {
    MemoryMedium medium(unpacked("apm-disc-2048"));
    for (std::uint64_t i = 0; i < 512; ++i) medium.patch(i, 0);
    EXPECT_EQ(read_partition_map(medium)->table, TableKind::apm);
}
TEST(PartitionMap, ADamagedEntryOfTheMacsMapIsLeftOut) {
    MemoryMedium medium(unpacked("apm-disc-512"));
    medium.patch32(3 * 512, 0);
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.table, TableKind::apm);
    ASSERT_FALSE(map.warnings.empty());
    EXPECT_THAT(map.warnings[0], HasSubstr("entry 3 of the Apple partition map"));
}
TEST(PartitionMap, TakesAnUnpartitionedMediumAsOneVolume) {
    expect_volumes_as_in_truth("fat12-floppy", TableKind::none);
}

TEST(PartitionMap, TellsTypesAndNames) {
    const auto gpt = read_partition_map(MemoryMedium(unpacked("fat32-stick"))).value();
    EXPECT_EQ(gpt.volumes[0].type, "basic data");
    EXPECT_EQ(gpt.volumes[0].name, "Field data");
    const auto mbr = read_partition_map(MemoryMedium(unpacked("mbr-chain"))).value();
    EXPECT_EQ(mbr.volumes[0].type, "FAT16");
    EXPECT_EQ(mbr.volumes[1].type, "FAT12");
}

TEST(PartitionMap, UsesTheBackupGptWhereTheFirstIsDamaged) {
    MemoryMedium medium(unpacked("fat32-stick"));
    medium.patch(512 + 40, 0xFF);  // a field of the header, so that its checksum no longer holds
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.table, TableKind::gpt);
    ASSERT_EQ(map.volumes.size(), 1U);
    EXPECT_EQ(map.volumes[0].offset, 1U << 20);
    ASSERT_EQ(map.warnings.size(), 1U);
    EXPECT_THAT(map.warnings[0], HasSubstr("backup"));
}

TEST(PartitionMap, UsesTheBackupGptWhereTheEntriesAreDamaged) {
    MemoryMedium medium(unpacked("fat32-stick"));
    medium.patch(1024 + 32, 0xFF);
    EXPECT_THAT(read_partition_map(medium).value().warnings.at(0), HasSubstr("backup"));
}

TEST(PartitionMap, SaysThatBothGptsAreDamaged) {
    const auto image = unpacked("fat32-stick");
    MemoryMedium medium(image);
    medium.patch(512, 0);
    medium.patch(image.size() - 512, 0);
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.table, TableKind::none);
    EXPECT_THAT(map.warnings.at(0), HasSubstr("both"));
}

TEST(PartitionMap, AChainThatRunsInACircleEnds) {
    MemoryMedium medium(unpacked("mbr-chain"));
    // The second link of the chain: its own second entry now leads back to the first.
    const std::uint64_t first = 12288 * 512;
    const std::uint64_t second =
        first + 512 * std::uint64_t{to_integer<unsigned>(medium.bytes(first + 446 + 16 + 9, 1).value()[0])} * 256;
    for (unsigned i = 0; i < 16; ++i) medium.patch(second + 446 + 16 + i, 0);
    medium.patch(second + 446 + 16 + 4, 0x05);
    medium.patch32(second + 446 + 16 + 12, 100);
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.volumes.size(), 3U);
    ASSERT_FALSE(map.warnings.empty());
    EXPECT_THAT(map.warnings[0], HasSubstr("circle"));
}

TEST(PartitionMap, ABrokenChainCostsOnlyWhatComesBehind) {
    MemoryMedium medium(unpacked("mbr-chain"));
    medium.patch(12288 * 512 + 510, 0);
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.volumes.size(), 1U);
    EXPECT_THAT(map.warnings.at(0), HasSubstr("breaks"));
}

TEST(PartitionMap, ATruncatedImageKeepsWhatIsThere) {
    MemoryMedium medium(unpacked("fat16-card"));
    medium.cut_at(6 << 20);
    const auto map = read_partition_map(medium).value();
    ASSERT_EQ(map.volumes.size(), 1U);
    EXPECT_EQ(map.volumes[0].length, 5U << 20);
    EXPECT_EQ(map.volumes[0].cut, 10U << 20);
    EXPECT_THAT(map.warnings.at(0), HasSubstr("cut short"));
}

TEST(PartitionMap, OfACutImageThosePartitionsStayThatBeginWithinIt) {
    MemoryMedium medium(unpacked("mbr-chain"));
    medium.cut_at(4 << 20);
    const auto map = read_partition_map(medium).value();
    EXPECT_EQ(map.table, TableKind::mbr);
    ASSERT_EQ(map.volumes.size(), 1U);
    EXPECT_FALSE(map.warnings.empty());
    // Of two that lie over each other at most one can be meant: that is no table.
    MemoryMedium mixed(unpacked("mbr-chain"));
    const auto first = mixed.bytes(446, 16).value();
    for (std::size_t i = 0; i < 16; ++i) mixed.patch(446 + 32 + i, std::to_integer<std::uint8_t>(first[i]));
    mixed.cut_at(4 << 20);
    EXPECT_EQ(read_partition_map(mixed)->table, TableKind::none);
}

TEST(PartitionMap, RandomSectorsAreNoTable) {
    std::mt19937 chance(1);
    for (int round = 0; round < 200; ++round) {
        std::vector<std::byte> bytes(64 * 512);
        for (std::byte& b : bytes) b = static_cast<std::byte>(chance());
        bytes[510] = std::byte{0x55};
        bytes[511] = std::byte{0xAA};
        EXPECT_EQ(read_partition_map(MemoryMedium(std::move(bytes)))->table, TableKind::none);
    }
}

TEST(PartitionMap, AnUnreadableFirstSectorLeavesTheWholeMedium) {
    MemoryMedium medium(unpacked("fat16-card"));
    medium.make_unreadable({0, 512});
    EXPECT_EQ(read_partition_map(medium)->volumes.size(), 1U);
}

}  // namespace
}  // namespace dredger

// Extents and superblocks of XFS, by hand after its documentation.
#include <cstring>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "filesystems/xfs/block_map.h"
#include "filesystems/xfs/log.h"
#include "support/support.h"

namespace dredger::xfs {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

Geometry geometry() {
    Geometry g;
    g.has_checksums = g.has_types = true;
    g.block_size = 4096;
    g.sector_size = 512;
    g.inode_size = 512;
    g.directory_block_size = 4096;
    g.group_blocks = 1000;
    g.groups = 4;
    g.blocks = 3900;
    g.block_bits = 10;
    g.inode_bits = 3;
    return g;
}

// xfs_bmbt_rec: flag, 54 bits of the file's block, 52 of the block, 21 of the count.
std::string record(std::uint64_t start, std::uint64_t block, std::uint64_t count, bool unwritten = false) {
    const std::uint64_t l0 = std::uint64_t{unwritten} << 63 | start << 9 | block >> 43, l1 = block << 21 | count;
    std::string bytes;
    for (const std::uint64_t word : {l0, l1})
        for (int shift = 56; shift >= 0; shift -= 8) bytes += static_cast<char>(word >> shift);
    return bytes;
}

std::vector<FileExtent> extents(const std::string& bytes, std::uint64_t most = 100) {
    return read_extents(ByteView(std::as_bytes(std::span(bytes))), most, geometry());
}

TEST(XfsGeometry, BlocksAndInodesLieInTheirGroups) {
    const Geometry g = geometry();
    EXPECT_EQ(g.offset_of(5), 5U * 4096);
    EXPECT_EQ(g.offset_of((2 << 10) + 7), (2000U + 7) * 4096);
    EXPECT_FALSE(g.offset_of(1000)) << "a number between two groups";
    EXPECT_TRUE(g.offset_of((3 << 10) + 899));
    EXPECT_FALSE(g.offset_of((3 << 10) + 900)) << "the last group is shorter";
    EXPECT_FALSE(g.offset_of(std::uint64_t{4} << 10));
    EXPECT_EQ(g.offset_of_inode(((1U << 10) + 3) << 3 | 5), (1000U + 3) * 4096 + 5 * 512);
    EXPECT_FALSE(g.offset_of_inode(0));
}

TEST(XfsExtents, EndWhereOneMakesNoSense) {
    const auto list = extents(record(0, 10, 4) + record(6, (1 << 10) + 2, 3, true) + record(2, 50, 1));
    ASSERT_EQ(list.size(), 2U) << "the third lies before the second";
    EXPECT_EQ(list[1].start, 6U);
    EXPECT_EQ(list[1].block, (1U << 10) + 2);
    EXPECT_EQ(list[1].count, 3U);
    EXPECT_TRUE(list[1].unwritten);
    EXPECT_EQ(extents(record(0, 10, 4) + record(4, 20, 1), 1).size(), 1U);
    EXPECT_THAT(extents(record(0, 999, 4)), IsEmpty()) << "out of its group";
    EXPECT_THAT(extents(record(0, std::uint64_t{9} << 10, 4)), IsEmpty());
    EXPECT_THAT(extents(record(0, 10, 0)), IsEmpty());
    EXPECT_THAT(extents(std::string(16, '\0')), IsEmpty());
}

TEST(XfsExtents, WhatNoneCoversReadsAsZeros) {
    const auto list = extents(record(1, 10, 1) + record(2, 11, 1) + record(5, 30, 2) + record(7, 40, 1, true));
    EXPECT_THAT(layout_of(list, 8 * 4096 + 100, geometry()),
                ElementsAre(Extent::zeros(4096), Extent{10 * 4096, 8192}, Extent::zeros(8192), Extent{30 * 4096, 8192},
                            Extent::zeros(4096 + 100)));
    EXPECT_THAT(layout_of(list, 4096 + 10, geometry()), ElementsAre(Extent::zeros(4096), Extent{10 * 4096, 10}));
    EXPECT_THAT(layout_of({}, 0, geometry()), IsEmpty());
}

TEST(XfsSuperBlock, NumbersThatNoVolumeHasAreRefused) {
    const auto image = test::unpacked("xfs-colony");
    const std::vector<std::byte> good(image.begin(), image.begin() + 512);
    const auto read = parse_superblock(ByteView(good));
    ASSERT_TRUE(read);
    EXPECT_EQ(read->label, "COLONY");
    EXPECT_TRUE(read->has_checksums);
    // Block size, groups, inode size, log of blocks per group, version.
    for (const std::size_t at : {5U, 88U, 104U, 124U, 101U}) {
        auto bad = good;
        bad[at] = std::byte{0x77};
        EXPECT_FALSE(parse_superblock(ByteView(bad))) << at;
    }
}

struct Counting final : LogSink {
    std::size_t inodes = 0, pieces = 0;
    std::uint64_t most = ~std::uint64_t{0};
    void take(LoggedInode&& logged) override {
        EXPECT_NE(logged.inode.number, 0U);
        ++inodes;
    }
    void take(LoggedBytes&& bytes) override {
        EXPECT_FALSE(bytes.bytes.empty());
        ++pieces;
    }
    bool reached(std::uint64_t, std::uint64_t) override { return most-- > 0; }
};

TEST(XfsLog, HoldsInodesAndPartsOfFolders) {
    const auto image = test::unpacked("xfs-worn");
    const Geometry g = *parse_superblock(ByteView(image));
    const test::MemoryMedium medium(image);
    Counting all;
    const LogState state = read_log(medium, g, all);
    EXPECT_TRUE(state.is_clean);
    EXPECT_GT(state.records, 20U);
    EXPECT_GT(all.inodes, 300U);
    EXPECT_GT(all.pieces, 100U);
    Counting none;
    none.most = 0;
    read_log(medium, g, none);
    EXPECT_EQ(none.inodes, 0U) << "it was stopped";
}

TEST(XfsLog, OfAVolumeInUseIsNotClean) {
    auto image = test::unpacked("xfs-worn");
    const Geometry g = *parse_superblock(ByteView(image));
    // The record of the unmount, whose operation has the client XFS_LOG and the unmount flag.
    const std::uint64_t log = *g.offset_of(g.log_start), end = log + std::uint64_t{g.log_blocks} * g.block_size;
    for (std::uint64_t at = log; at + 512 <= end; at += 512)
        if (image[at + 8] == std::byte{0xAA} && image[at + 9] == std::byte{0x20}) image[at + 9] = std::byte{0};
    Counting all;
    EXPECT_FALSE(read_log(test::MemoryMedium(image), g, all).is_clean);
}

}  // namespace
}  // namespace dredger::xfs

#include "filesystems/fat/layouts.h"

#include <gtest/gtest.h>

#include "filesystems/fat/folder_clusters.h"
#include "support/support.h"

namespace dredger::fat {
namespace {

// The floppy's geometry and table: nothing on it but a few files at the front; from cluster 500 on all is free.
struct Floppy {
    std::shared_ptr<test::MemoryMedium> medium = std::make_shared<test::MemoryMedium>(test::unpacked("fat12-floppy"));
    Geometry geometry = parse_boot_sector(ByteView(medium->bytes(0, 512).value()), medium->size()).value();
    Table table = Table::read(medium, geometry).value();
    Layouts layouts{table, geometry};
};

FileTime at(std::int64_t seconds) { return {seconds, 0, FileTime::Clock::local}; }

using Runs = std::vector<fat::Run>;

TEST(RunMap, LaterClaimsTakeOverWhatEarlierOnesHad) {
    RunMap<int> map;
    map.assign(10, 10, 1);
    map.assign(15, 2, 2);
    EXPECT_EQ(*map.find(14), 1);
    EXPECT_EQ(*map.find(15), 2);
    EXPECT_EQ(*map.find(16), 2);
    EXPECT_EQ(*map.find(17), 1);
    EXPECT_EQ(map.find(9), nullptr);
    EXPECT_EQ(map.find(20), nullptr);
    map.assign(0, 100, 3);
    EXPECT_EQ(*map.find(15), 3);
    map.assign(5, 0, 4);
    EXPECT_EQ(*map.find(5), 3);
}

TEST(FatLayouts, AreOnePieceWhereNothingIsInTheWay) {
    Floppy f;
    EXPECT_EQ(f.layouts.lay_out(500, 8, at(100), Standing::likely), (Runs{{500, 8}}));
}

TEST(FatLayouts, SkipOlderDeletedFilesThatStandAndFoldersButNotThoseTheyOverwrote) {
    Floppy f;
    f.layouts.add_deleted_file({{502, 3}}, Standing::yes);
    f.layouts.add_deleted_file({{507, 2}}, Standing::likely);
    f.layouts.add_deleted_folder(511);
    EXPECT_EQ(f.layouts.lay_out(500, 8, at(100), Standing::likely), (Runs{{500, 2}, {505, 2}, {509, 2}, {512, 2}}));
    EXPECT_EQ(f.layouts.lay_out(500, 8, at(100), Standing::yes), (Runs{{500, 2}, {505, 6}}));
    EXPECT_EQ(f.layouts.lay_out(503, 4, at(100), Standing::likely), (Runs{{503, 4}}))
        << "it begins inside the other one";
}

TEST(FatLayouts, ADeletedFileThatDoesNotStandIsInNobodysWay) {
    Floppy f;
    f.layouts.add_deleted_file({{502, 3}}, Standing::no);
    EXPECT_EQ(f.layouts.lay_out(500, 8, at(100), Standing::likely), (Runs{{500, 8}}));
}

TEST(FatLayouts, SkipOlderLiveFilesButNotNewerOnes) {
    Floppy f;
    std::uint32_t taken = 0;  // a live cluster with a free one before it
    for (std::uint32_t c = 3; c < 500 && taken == 0; ++c)
        if (f.table.taken(c) && !f.table.taken(c - 1)) taken = c;
    ASSERT_NE(taken, 0U);
    f.layouts.add_live({{taken, 1}}, at(1000));
    EXPECT_EQ(f.layouts.lay_out(taken - 1, 2, at(2000), Standing::likely).size(), 2U) << "it was there first";
    EXPECT_EQ(f.layouts.lay_out(taken - 1, 2, at(500), Standing::likely), (Runs{{taken - 1, 2}})) << "it came later";
    EXPECT_EQ(f.layouts.lay_out(taken - 1, 2, std::nullopt, Standing::likely).size(), 2U) << "nobody knows";
}

TEST(FatLayouts, GoOnAtTheFrontWhenTheVolumeEnds) {
    Floppy f;
    const auto runs = f.layouts.lay_out(f.geometry.last_cluster(), 2, at(100), Standing::likely);
    ASSERT_EQ(runs.size(), 2U);
    EXPECT_EQ(runs[0], (fat::Run{f.geometry.last_cluster(), 1}));
    EXPECT_LT(runs[1].first, 500U);
    std::uint64_t all = 0;
    for (const fat::Run& run : f.layouts.lay_out(600, 1'000'000, at(100), Standing::likely)) all += run.count;
    EXPECT_LE(all, f.geometry.cluster_count);
}

TEST(FatFolderClusters, AreFoundWhereNothingLeadsToThem) {
    const auto medium = std::make_shared<test::MemoryMedium>(test::unpacked("fat12-floppy"));
    const Geometry geometry = parse_boot_sector(ByteView(medium->bytes(0, 512).value()), medium->size()).value();
    const Table table = Table::read(medium, geometry).value();
    FolderClusters found;
    found.search(*medium, geometry, table, {}, 100'000);
    ASSERT_EQ(found.beginnings().size(), 1U) << "the deleted folder NESTS/OLD";
    const auto [cluster, parent] = *found.beginnings().begin();
    EXPECT_FALSE(table.taken(cluster));
    EXPECT_TRUE(table.taken(parent));
    found.take(cluster);
    EXPECT_TRUE(found.beginnings().empty());

    FolderClusters none;
    none.search(*medium, geometry, table, {{2, geometry.cluster_count}}, 100'000);
    EXPECT_TRUE(none.beginnings().empty()) << "all of it is known";
    none.search(*medium, geometry, table, {}, 1);
    EXPECT_TRUE(none.beginnings().empty()) << "it looks at no more than it may";
}

}  // namespace
}  // namespace dredger::fat

// Chunks, names and extents of Btrfs, by hand after its on-disk format.
#include <cstring>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "filesystems/btrfs/files.h"
#include "filesystems/btrfs/writings.h"
#include "support/support.h"

namespace dredger::btrfs {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

constexpr std::uint64_t kVolume = 1 << 30;

std::vector<std::byte> chunk(std::uint64_t length, std::uint64_t type,
                             std::vector<std::pair<std::uint64_t, std::uint64_t>> stripes) {
    Chunk head{};
    head.length = length;
    head.type = type;
    head.num_stripes = static_cast<std::uint16_t>(stripes.size());
    std::vector<std::byte> bytes(sizeof head + stripes.size() * sizeof(Stripe));
    std::memcpy(bytes.data(), &head, sizeof head);
    for (std::size_t i = 0; i < stripes.size(); ++i) {
        Stripe stripe{};
        stripe.devid = stripes[i].first;
        stripe.offset = stripes[i].second;
        std::memcpy(bytes.data() + sizeof head + i * sizeof stripe, &stripe, sizeof stripe);
    }
    return bytes;
}

bool add(ChunkMap& map, std::uint64_t logical, const std::vector<std::byte>& bytes) {
    return map.add({256, CHUNK_ITEM, logical}, ByteView(bytes), 1, kVolume);
}

TEST(BtrfsChunks, LeadFromLogicalAddressesToPlaces) {
    ChunkMap map;
    EXPECT_TRUE(add(map, 1000, chunk(500, 1, {{1, 70'000}})));
    EXPECT_TRUE(add(map, 1500, chunk(500, BLOCK_GROUP_METADATA, {{1, 10'000}, {1, 20'000}})));
    EXPECT_THAT(map.places_of(1400, 200), ElementsAre(Extent{70'400, 100}, Extent{10'000, 100}));
    EXPECT_THAT(map.places_of(1500, 10, 1), ElementsAre(Extent{20'000, 10}));
    EXPECT_EQ(map.copies_of(1600), 2U);
    EXPECT_EQ(map.copies_of(2000), 0U);
    EXPECT_THAT(map.places_of(1900, 200), ElementsAre(Extent{10'400, 100}, Extent::unknown(100)));
    EXPECT_TRUE(map.all()[1].holds_nodes());
}

TEST(BtrfsChunks, WhatMakesNoSenseIsLeftOut) {
    ChunkMap map;
    EXPECT_TRUE(add(map, 1000, chunk(500, 1, {{1, 70'000}})));
    EXPECT_TRUE(add(map, 1200, chunk(500, 1, {{1, 90'000}}))) << "readable, but another one has its place";
    EXPECT_EQ(map.all().size(), 1U);
    EXPECT_FALSE(add(map, 5000, chunk(500, 1, {{2, 70'000}}))) << "on another device";
    EXPECT_FALSE(add(map, 5000, chunk(500, BLOCK_GROUP_RAID0, {{1, 0}, {2, 0}}))) << "striped";
    EXPECT_FALSE(add(map, 5000, chunk(0, 1, {{1, 0}})));
    EXPECT_FALSE(add(map, ~std::uint64_t{0} - 5, chunk(500, 1, {{1, 0}}))) << "round the end";
    EXPECT_FALSE(add(map, 5000, chunk(500, 1, {{1, kVolume}}))) << "behind the volume";
}

TEST(BtrfsNames, SeveralOfOneInodeStandInARow) {
    std::string both("\5\0\0\0\0\0\0\0\4\0Tern\6\0\0\0\0\0\0\0\3\0Auk", 27);
    const auto bytes = test::bytes_of(both);
    const auto names = names_in({300, INODE_REF, 256}, ByteView(bytes));
    ASSERT_EQ(names.size(), 2U);
    EXPECT_EQ(names[0].name, "Tern");
    EXPECT_EQ(names[1].name, "Auk");
    EXPECT_EQ(names[1].parent, 256U);
    both.resize(12);
    const auto cut = test::bytes_of(both);
    EXPECT_THAT(names_in({300, INODE_REF, 256}, ByteView(cut)), IsEmpty());
}

std::vector<std::byte> extent_item(std::uint8_t type, std::uint8_t compression, std::uint64_t disk,
                                   std::uint64_t stored, std::uint64_t offset, std::uint64_t length,
                                   std::uint64_t ram) {
    FileExtentItem item{};
    item.ram_bytes = ram;
    item.compression = compression;
    item.type = type;
    FileExtentPlace place{};
    place.disk_bytenr = disk;
    place.disk_num_bytes = stored;
    place.offset = offset;
    place.num_bytes = length;
    std::vector<std::byte> bytes(sizeof item + sizeof place);
    std::memcpy(bytes.data(), &item, sizeof item);
    std::memcpy(bytes.data() + sizeof item, &place, sizeof place);
    return bytes;
}

std::optional<FileExtent> extent_at(std::uint64_t start, const std::vector<std::byte>& bytes) {
    return parse_file_extent({300, EXTENT_DATA, start}, ByteView(bytes));
}

TEST(BtrfsExtents, AreLaidOneBehindTheOtherWithHolesBetween) {
    ChunkMap map;
    add(map, 1 << 20, chunk(1 << 20, 1, {{1, 4 << 20}}));
    FileExtents extents;
    extents.add(*extent_at(0, extent_item(1, 0, 1 << 20, 8192, 4096, 4096, 8192)), 5);
    extents.add(*extent_at(8192, extent_item(1, 0, (1 << 20) + 65'536, 4096, 0, 4096, 4096)), 5);
    extents.add(*extent_at(12'288, extent_item(2, 0, (1 << 20) + 131'072, 4096, 0, 4096, 4096)), 5);
    Record record;
    record.size = 14'000;
    const auto logicals = extents.lay(map, record, std::nullopt);
    EXPECT_THAT(record.layout.extents, ElementsAre(Extent{(4 << 20) + 4096, 4096}, Extent::zeros(4096),
                                                   Extent{(4 << 20) + 65'536, 4096}, Extent::zeros(1712)));
    EXPECT_THAT(logicals, ElementsAre((1U << 20) + 4096, 0U, (1U << 20) + 65'536, 0U));
    EXPECT_EQ(record.layout.codec, Codec::none);
    // What is preallocated is counted as stored.
    Record all = record;
    all.layout = {};
    extents.lay(map, all, 3 * 4096);
    EXPECT_EQ(all.layout, record.layout);
    EXPECT_EQ(all.trust, LayoutTrust::exact);
    // An extent that nothing tells of any more lies between them or behind them.
    Record lost = record;
    lost.layout = {};
    extents.lay(map, lost, 4 * 4096);
    EXPECT_THAT(lost.layout.extents, ElementsAre(Extent{(4 << 20) + 4096, 4096}, Extent::unknown(4096),
                                                 Extent{(4 << 20) + 65'536, 4096}, Extent::zeros(1712)));
    EXPECT_EQ(lost.trust, LayoutTrust::damaged);
}

TEST(BtrfsExtents, TheLaterLeafWins) {
    ChunkMap map;
    add(map, 1 << 20, chunk(1 << 20, 1, {{1, 4 << 20}}));
    FileExtents extents;
    extents.add(*extent_at(0, extent_item(1, 0, (1 << 20) + 4096, 4096, 0, 4096, 4096)), 9);
    extents.add(*extent_at(0, extent_item(1, 0, 1 << 20, 4096, 0, 4096, 4096)), 5);
    Record record;
    record.size = 4096;
    extents.lay(map, record, std::nullopt);
    EXPECT_THAT(record.layout.extents, ElementsAre(Extent{(4 << 20) + 4096, 4096}));
}

TEST(BtrfsExtents, WhatALaterLeafCoversIsItsAlone) {
    ChunkMap map;
    add(map, 1 << 20, chunk(1 << 20, 1, {{1, 4 << 20}}));
    const auto block = [&](std::uint64_t n) {
        return *extent_at(n * 4096, extent_item(1, 0, (1 << 20) + n * 4096, 4096, 0, 4096, 4096));
    };
    const auto pieces = [&](const FileExtents& extents) {
        Record record;
        record.size = 4 * 4096;
        extents.lay(map, record, std::nullopt);
        std::string drawn;
        for (const Extent& piece : record.layout.extents)
            drawn += std::string(piece.length / 4096, piece.is_stored() ? 'x' : '.');
        return drawn;
    };
    for (const bool later_first : {false, true}) {
        FileExtents extents;
        const auto later = [&] {
            extents.add(block(0), 9);
            extents.add(block(2), 9);
            extents.cover(0, 2 * 4096, 9);
        };
        const auto earlier = [&] {
            for (std::uint64_t n = 0; n < 4; ++n) extents.add(block(n), 5);
            extents.cover(0, UINT64_MAX, 5);
        };
        if (later_first) later();
        earlier();
        if (!later_first) later();
        EXPECT_EQ(pieces(extents), "x.xx") << "of what comes behind it only the earlier one tells";
        extents.cover(0, UINT64_MAX, 9);
        EXPECT_EQ(pieces(extents), "x.x.");
        extents.cover(0, UINT64_MAX, 4);
        EXPECT_EQ(pieces(extents), "x.x.");
    }
}

TEST(BtrfsExtents, TheInodesCountTellsWhichAreOfItsVersion) {
    ChunkMap map;
    add(map, 1 << 20, chunk(1 << 20, 1, {{1, 4 << 20}}));
    FileExtents extents;
    for (const std::uint64_t n : {0U, 1U, 2U})
        extents.add(*extent_at(n * 4096, extent_item(1, 0, (1 << 20) + n * 8192, 4096, 0, 4096, 4096)), n == 1 ? 5 : 9);
    const auto kinds = [&](std::uint64_t stored) {
        Record record;
        record.size = 3 * 4096;
        extents.lay(map, record, stored);
        std::string drawn;
        for (const Extent& piece : record.layout.extents)
            drawn += piece.is_stored() ? 'x' : piece.is_unknown() ? '?' : '.';
        return drawn + (record.trust == LayoutTrust::exact ? "" : " damaged");
    };
    EXPECT_EQ(kinds(3 * 4096), "xxx");
    EXPECT_EQ(kinds(2 * 4096), "x.x") << "the second one is told of by an earlier leaf only";
    EXPECT_EQ(kinds(4096), "xxx") << "no choice gives this count: nothing is left out";
}

TEST(BtrfsExtents, NoLengthIsBelieved) {
    EXPECT_FALSE(extent_at(0, extent_item(1, 0, 4096, 4096, 4096, 4096, 4096))) << "more than what is stored";
    EXPECT_FALSE(extent_at(0, extent_item(1, 0, 4096, 4096, ~std::uint64_t{0}, 4096, 4096)));
    EXPECT_FALSE(extent_at(0, extent_item(1, 0, 4096, 4096, 0, 0, 4096)));
    EXPECT_FALSE(extent_at(0, extent_item(7, 0, 4096, 4096, 0, 4096, 4096)));
    EXPECT_FALSE(extent_at(~std::uint64_t{0}, extent_item(1, 0, 4096, 4096, 0, 4096, 4096)));
    // Packed in a way that nobody knows: a hole that is told.
    auto strange = extent_at(0, extent_item(1, 9, 1 << 20, 4096, 0, 4096, 4096));
    ASSERT_TRUE(strange);
    FileExtents extents;
    extents.add(std::move(*strange), 1);
    Record record;
    record.size = 4096;
    extents.lay(ChunkMap(), record, std::nullopt);
    EXPECT_THAT(record.layout.extents, ElementsAre(Extent::unknown(4096)));
    EXPECT_EQ(record.trust, LayoutTrust::damaged);
}

TEST(BtrfsSuperBlock, NumbersThatNoVolumeHasAreRefused) {
    const auto image = test::unpacked("btrfs-notes");
    const std::vector<std::byte> good(image.begin() + (64 << 10), image.begin() + (68 << 10));
    ASSERT_TRUE(parse_superblock(ByteView(good)));
    for (const auto& [at, value] : {std::pair(0x90, 0x03), std::pair(0x94, 0x01), std::pair(0x40, 0x00)}) {
        auto bad = good;
        bad[static_cast<std::size_t>(at)] = static_cast<std::byte>(value);
        EXPECT_FALSE(parse_superblock(ByteView(bad))) << at;
    }
    EXPECT_FALSE(parse_superblock(ByteView(std::span(good).first(1000))));
}

TEST(BtrfsWritings, TellWhatWasWrittenNextIntoARange) {
    btrfs::Writings writings;
    writings.add(0x1000, 0x3000, 5);
    writings.add(0x2000, 0x1000, 9);
    writings.add(0x8000, 0x1000, 7);
    writings.seal();
    EXPECT_EQ(writings.next_after(5, 0x1000, 0x3000), 9U);
    EXPECT_EQ(writings.next_after(5, 0x1000, 0x1000), UINT64_MAX) << "written elsewhere";
    EXPECT_EQ(writings.next_after(4, 0x3800, 0x100), 5U);
    EXPECT_EQ(writings.next_after(9, 0x0, 0x10000), UINT64_MAX);
    EXPECT_EQ(writings.next_after(6, 0x0, 0x10000), 7U);
}

}  // namespace
}  // namespace dredger::btrfs

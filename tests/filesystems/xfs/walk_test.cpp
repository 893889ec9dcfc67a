// Walks XFS media that the kernel's driver wrote, and the same media with single things damaged.
#include <cstring>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "filesystems/xfs/directory.h"
#include "filesystems/xfs/inode.h"
#include "filesystems/xfs/xfs.h"
#include "support/walked.h"

namespace dredger {
namespace {

using test::expect_truth;
using test::MemoryMedium;
using test::Walked;
using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

xfs::Geometry geometry_of(const std::string& fixture) {
    const auto image = test::unpacked(fixture);
    return xfs::parse_superblock(ByteView(image)).value();
}

class XfsMedia : public testing::TestWithParam<const char*> {};

TEST_P(XfsMedia, GivesBackAllThatInodesFoldersAndLogTellOf) {
    const Walked walked(GetParam());
    test::expect_whole_deleted(walked, GetParam());
    EXPECT_THAT(walked.filesystem->facts().warnings, IsEmpty());
    EXPECT_THAT(walked.warnings, IsEmpty());
}

INSTANTIATE_TEST_SUITE_P(Media, XfsMedia, testing::Values("xfs-colony", "xfs-worn"), test::NameOfTest());

// The folder's entries are within its inode now, and the log is empty: its former block stands in free space. Freeing
// an inode leaves its times.
TEST(XfsWalk, ABlockThatAFolderGaveBackNamesItsFiles) {
    const Walked walked("xfs-shrunk");
    const auto truth = test::truth_of("xfs-shrunk");
    std::size_t named = 0;
    for (const auto& file : truth["files"]) {
        if (file["directory"] || file["state"] == "live") continue;
        const Record* record = walked.found.find(file["path"]);
        ASSERT_NE(record, nullptr) << file["path"];
        ASSERT_TRUE(record->modified) << file["path"];
        EXPECT_EQ(iso8601(*record->modified).substr(0, 19), file["modified"].get<std::string>().substr(0, 19));
        ++named;
    }
    EXPECT_EQ(named, 22U);
}

TEST(XfsWalk, ABlockOfAFolderTellsWhoseItIs) {
    // Version 4 has no owner in its header: the entry "." has.
    xfs::Geometry geometry = geometry_of("xfs-colony");
    geometry.has_checksums = false;
    std::vector<std::byte> block(static_cast<std::size_t>(geometry.directory_block_size));
    const auto put = [&](std::size_t at, std::string_view bytes) {
        std::memcpy(block.data() + at, bytes.data(), bytes.size());
    };
    using namespace std::string_view_literals;
    put(0, "XD2D"sv);
    put(16, "\0\0\0\0\0\0\0\x85\x01.\x02\0\0\0\0\x10"sv);
    put(32, "\0\0\0\0\0\0\0\x80\x02..\x02\0\0\0\x20"sv);
    put(48, "\xFF\xFF\x0F\xD0"sv);
    const xfs::Directory directory = xfs::read_directory_block(ByteView(block), geometry);
    EXPECT_EQ(directory.owner, 0x85U);
    EXPECT_EQ(directory.parent, 0x80U);
}

TEST(XfsWalk, HundredsOfPiecesAreReadFromATree) {
    const Walked walked("xfs-pieces");
    const auto truth = test::truth_of("xfs-pieces");
    for (const auto& file : truth["files"]) {
        if (file["directory"]) continue;
        const State state = file["state"] == "live" ? State::live : State::deleted;
        const Record* record = walked.found.find(file["path"], state);
        ASSERT_NE(record, nullptr) << file["path"];
        EXPECT_EQ(record->trust, LayoutTrust::exact) << file["path"];
        EXPECT_EQ(walked.sum_of(*record), file["sha256"]) << file["path"];
    }
    const Record* live = walked.found.find("Nest camera/Ledge 5.log", State::live);
    ASSERT_NE(live, nullptr);
    EXPECT_EQ(live->layout.extents.size(), 599U) << "300 pieces and the holes between them";
}

TEST(XfsWalk, WhatALostLeafOfTheTreeToldOfIsNotTakenForZeros) {
    const std::string name = "Nest camera/Ledge 5.log";
    const Walked whole("xfs-pieces");
    const Record* before = whole.found.find(name, State::live);
    ASSERT_NE(before, nullptr);
    std::vector<std::uint64_t> leaves;
    const auto image = test::unpacked("xfs-pieces");
    const ByteView view(image);
    for (std::size_t at = 0; at + 4096 <= image.size(); at += 4096)
        if (view.has(at, "BMA3") &&
            *view.as<boost::endian::big_uint64_t>(at + 56) == (before->identity.number & 0xFFFF'FFFFU))
            leaves.push_back(at);
    ASSERT_GE(leaves.size(), 2U);
    for (const std::uint64_t leaf : leaves) {
        const Walked walked("xfs-pieces", [&](MemoryMedium& medium, std::uint64_t) { medium.patch(leaf, 'X'); });
        const Record* record = walked.found.find(name, State::live);
        ASSERT_NE(record, nullptr);
        EXPECT_EQ(record->trust, LayoutTrust::damaged);
        std::uint64_t unknown = 0, all = 0;
        bool agrees = true;
        for (const Extent& piece : record->layout.extents) {
            if (piece.is_unknown()) unknown += piece.length;
            agrees =
                agrees && (!piece.is_stored() || std::find(before->layout.extents.begin(), before->layout.extents.end(),
                                                           piece) != before->layout.extents.end());
            all += piece.length;
        }
        EXPECT_EQ(all, record->size);
        EXPECT_GT(unknown, record->size / 10);
        EXPECT_LT(unknown, record->size * 9 / 10);
        EXPECT_TRUE(agrees) << "the other leaves' pieces stay where they are";
    }
}

TEST(XfsWalk, WithoutItsLogFreedInodesStillTell) {
    const xfs::Geometry geometry = geometry_of("xfs-colony");
    const std::uint64_t log = *geometry.offset_of(geometry.log_start);
    const std::uint64_t length = std::uint64_t{geometry.log_blocks} * geometry.block_size;
    const Walked walked("xfs-colony", [&](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t at = 0; at < length; at += 512) medium.patch32(volume + log + at, 0);
    });
    const auto truth = test::truth_of("xfs-colony");
    unsigned deleted = 0, exact = 0;
    for (const auto& file : truth["files"]) {
        if (file["state"] != "deleted" || file["directory"] || file["size"] == 0) continue;
        ++deleted;
        for (const Record& record : walked.found.records)
            if (record.state == State::deleted && !record.layout.empty() && walked.sum_of(record) == file["sha256"]) {
                ++exact;
                break;
            }
    }
    EXPECT_GT(deleted, 20U);
    EXPECT_GE(exact * 10, deleted * 9) << "extents stand in the inodes, and the content tells where it ends";
}

TEST(XfsWalk, ACopyOfTheSuperblockOpensIt) {
    const Walked walked("xfs-colony", [](MemoryMedium& medium, std::uint64_t volume) {
        for (std::uint64_t at = 0; at < 512; ++at) medium.patch(volume + at, 0);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("its copy in allocation group 1 is used")));
    expect_truth(walked, "xfs-colony");
}

TEST(XfsWalk, ADamagedTreeOfInodesCostsWhatItHides) {
    const xfs::Geometry geometry = geometry_of("xfs-colony");
    // agi_root
    const Walked walked("xfs-colony", [&](MemoryMedium& medium, std::uint64_t volume) {
        medium.patch32(volume + 2 * std::uint64_t{geometry.sector_size} + 20, 0xFFFFFFFF);
    });
    EXPECT_THAT(walked.filesystem->facts().warnings, Contains(HasSubstr("do not tell of all their inodes")));
    EXPECT_NE(walked.found.find("Keep me.txt", State::live), nullptr);
}

// "XFS Algorithms & Data Structures", "Short Form Directories", by hand.
TEST(XfsDirectory, ReadsShortOnesAndWhatLiesBehindTheirEnd) {
    const xfs::Geometry geometry = geometry_of("xfs-colony");
    const auto inode = static_cast<char>(geometry.root_inode);
    std::string fork("\1\0\0\0\0", 5);
    fork += inode;
    const auto entry = [&](const std::string& name, char number) {
        return std::string(1, static_cast<char>(name.size())) + std::string("\0\x60", 2) + name + '\1' +
               std::string("\0\0\0", 3) + number;
    };
    fork += entry("terns.csv", static_cast<char>(inode + 1));
    const std::size_t used = fork.size();
    fork += entry("gone.csv", static_cast<char>(inode + 2)) + std::string(20, '\0');
    const auto bytes = test::bytes_of(fork);
    const xfs::Directory directory = xfs::read_short_directory(ByteView(bytes), used, geometry);
    ASSERT_EQ(directory.entries.size(), 2U);
    EXPECT_EQ(directory.parent, geometry.root_inode);
    EXPECT_EQ(directory.entries[0].name, "terns.csv");
    EXPECT_TRUE(directory.entries[0].live);
    EXPECT_EQ(directory.entries[1].name, "gone.csv");
    EXPECT_FALSE(directory.entries[1].live);
    EXPECT_EQ(directory.entries[1].inode, geometry.root_inode + 2);
}

TEST(XfsDirectory, RemovedEntriesKeepTheLowHalfOfTheirInode) {
    const xfs::Geometry geometry = geometry_of("xfs-colony");
    std::string part(64, '\0');
    const std::string entry = std::string("\xFF\xFF\0\x18\0\0\x12\x34", 8) + std::string(1, '\x08') + "gone.csv" + '\1';
    part.replace(16, entry.size(), entry);
    part[16 + 24 - 1] = static_cast<char>(128 + 16);  // the tag: where it stands in the block
    const auto entries = xfs::entries_within(ByteView(test::bytes_of(part)), 128, geometry);
    ASSERT_EQ(entries.size(), 1U);
    EXPECT_EQ(entries[0].name, "gone.csv");
    EXPECT_EQ(entries[0].inode, 0x1234U);
    EXPECT_FALSE(entries[0].inode_is_whole);
    EXPECT_TRUE(xfs::entries_within(ByteView(test::bytes_of(part)), 136, geometry).empty()) << "the tag disagrees";
}

}  // namespace
}  // namespace dredger

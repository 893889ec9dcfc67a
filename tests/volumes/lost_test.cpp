// Lost volumes: file systems that real drivers wrote, on a medium whose partition table tells nothing of them.
#include "volumes/lost.h"

#include <fstream>
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>
#include <random>

#include "filesystems/filesystem.h"
#include "media/file_medium.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::IsEmpty;

constexpr std::uint64_t kMiB = 1 << 20;

class LostVolumes : public testing::Test {
  protected:
    // The first volume of a fixture.
    std::vector<std::byte> volume(const std::string& fixture) {
        const auto truth = test::truth_of(fixture);
        const auto& place = truth["volumes"][0];
        const auto whole = test::unpacked(fixture);
        const auto from = whole.begin() + place["offset"].get<std::ptrdiff_t>();
        return {from, from + place["length"].get<std::ptrdiff_t>()};
    }
    void put(std::uint64_t at, const std::vector<std::byte>& bytes) {
        if (medium_.size() < at + bytes.size()) medium_.resize(static_cast<std::size_t>(at + bytes.size()));
        std::copy(bytes.begin(), bytes.end(), medium_.begin() + static_cast<std::ptrdiff_t>(at));
    }
    void blank(std::uint64_t at, std::uint64_t length) {
        std::fill_n(medium_.begin() + static_cast<std::ptrdiff_t>(at), length, std::byte{0});
    }
    std::vector<Volume> found() {
        const test::MemoryMedium medium(medium_);
        PartitionMap map = read_partition_map(medium).value();
        const std::vector<bool> known(map.volumes.size(), map.table != TableKind::none);
        EXPECT_TRUE(add_lost_volumes(medium, known, all_tracers(), listener_, map));
        return lost_of(map);
    }
    std::vector<Volume> found_everywhere() {
        const test::MemoryMedium medium(medium_);
        PartitionMap map = read_partition_map(medium).value();
        if (map.table == TableKind::none) map.volumes.clear();
        std::vector<VolumeTrace> traces;
        look_for_traces(medium, all_tracers(), 0, medium_, traces);
        add_traced_volumes(medium, traces, map);
        return lost_of(map);
    }
    static std::vector<Volume> lost_of(PartitionMap& map) {
        std::erase_if(map.volumes, [](const Volume& v) { return v.table != TableKind::lost; });
        return map.volumes;
    }

    std::vector<std::byte> medium_ = std::vector<std::byte>(kMiB);
    test::Listener listener_;
};

TEST_F(LostVolumes, AreFoundOneBehindTheOther) {
    const auto fat = volume("fat16-card"), exfat = volume("exfat-card"), ntfs = volume("ntfs-small");
    put(kMiB, fat);
    put(kMiB + fat.size(), exfat);
    put(kMiB + fat.size() + exfat.size(), ntfs);
    put(medium_.size() + kMiB, std::vector<std::byte>(512));
    const auto volumes = found();
    ASSERT_EQ(volumes.size(), 3U);
    EXPECT_EQ(volumes[0].type, "FAT16");
    EXPECT_EQ(volumes[0].offset, kMiB);
    EXPECT_EQ(volumes[0].length, fat.size());
    EXPECT_EQ(volumes[1].type, "exFAT");
    EXPECT_EQ(volumes[1].offset, kMiB + fat.size());
    EXPECT_EQ(volumes[2].type, "NTFS");
    EXPECT_THAT(volumes[2].evidence, HasSubstr("both copies of its file table"));
    EXPECT_EQ(volumes[2].offset, kMiB + fat.size() + exfat.size());
    EXPECT_EQ(volumes[2].number, 3U);
}

TEST_F(LostVolumes, TheCopyOfABootSectorTellsWhereItsVolumeBegins) {
    for (const auto& [fixture, name] :
         {std::pair("fat32-stick", "FAT32"), std::pair("exfat-card", "exFAT"), std::pair("ntfs-small", "NTFS")}) {
        medium_.assign(kMiB, std::byte{0});
        const auto bytes = volume(fixture);
        put(kMiB, bytes);
        put(medium_.size() + kMiB, std::vector<std::byte>(512));
        blank(kMiB, 512);
        for (const auto& volumes : {found(), found_everywhere()}) {
            ASSERT_EQ(volumes.size(), 1U) << fixture;
            EXPECT_EQ(volumes[0].type, name);
            EXPECT_EQ(volumes[0].offset, kMiB) << fixture;
            EXPECT_THAT(volumes[0].evidence, HasSubstr("copy of its boot sector")) << fixture;
            const test::MemoryMedium medium(
                {medium_.begin() + kMiB, medium_.begin() + static_cast<std::ptrdiff_t>(kMiB + volumes[0].length)});
            const auto opened = open_filesystem(std::make_shared<test::MemoryMedium>(medium));
            EXPECT_TRUE(opened && *opened) << fixture;
        }
    }
}

TEST_F(LostVolumes, AnywhereIsFoundByLookingEverywhere) {
    constexpr std::uint64_t kOdd = 3 * kMiB + 1234 * 512;
    put(kOdd, volume("ntfs-small"));
    put(medium_.size() + kMiB, std::vector<std::byte>(512));
    EXPECT_THAT(found(), IsEmpty());
    const auto volumes = found_everywhere();
    ASSERT_EQ(volumes.size(), 1U);
    EXPECT_EQ(volumes[0].offset, kOdd);
}

TEST_F(LostVolumes, AnImageInAFileIsNoPartition) {
    put(kMiB, volume("fat32-stick"));
    const auto outer = found_everywhere();
    // Into what is free of it, a megabyte from its start.
    put(16 * kMiB, volume("ntfs-small"));
    const auto both = found_everywhere();
    ASSERT_EQ(both.size(), 1U);
    EXPECT_EQ(both[0].type, outer[0].type);
    EXPECT_EQ(both[0].offset, kMiB);
}

TEST_F(LostVolumes, NoiseAndBootSectorsAloneAreNone) {
    std::mt19937_64 random(7);
    std::vector<std::byte> noise(8 * kMiB);
    for (std::byte& b : noise) b = static_cast<std::byte>(random());
    put(0, noise);
    auto boot = volume("ntfs-small");
    boot.resize(512);
    put(2 * kMiB, boot);
    put(4 * kMiB, boot);
    EXPECT_THAT(found_everywhere(), IsEmpty());
}

TEST_F(LostVolumes, DamagedOnesNeverLeadAstray) {
    put(kMiB, volume("fat16-card"));
    put(medium_.size(), volume("ntfs-small"));
    const auto whole = medium_;
    const std::uint64_t last = whole.size() - volume("ntfs-small").size();
    std::mt19937 random(11);
    for (int round = 0; round < 300; ++round) {
        medium_ = whole;
        for (int i = 0; i < 12; ++i) {
            const std::uint64_t at = random() % 2 == 0 ? kMiB : last;
            medium_[static_cast<std::size_t>(at) + random() % 512] = static_cast<std::byte>(random());
        }
        for (const Volume& v : found()) EXPECT_LT(v.offset, medium_.size());
    }
}

TEST_F(LostVolumes, ExtIsToldByItsSuperblocks) {
    const test::TempFolder folder;
    const fs::path image = folder / "ext.img";
    std::ofstream(image).close();
    fs::resize_file(image, 32 * kMiB);
    if (std::system(("mke2fs -q -F -t ext4 -b 1024 -L RINGS " + image.string() + " >/dev/null 2>&1").c_str()) != 0)
        GTEST_SKIP() << "mke2fs is not here";
    const std::string text = test::read_text(image);
    const auto* bytes = reinterpret_cast<const std::byte*>(text.data());
    put(kMiB, {bytes, bytes + text.size()});
    auto volumes = found();
    ASSERT_EQ(volumes.size(), 1U);
    EXPECT_EQ(volumes[0].type, "ext4");
    EXPECT_EQ(volumes[0].name, "RINGS");
    EXPECT_EQ(volumes[0].offset, kMiB);
    EXPECT_EQ(volumes[0].length, 32 * kMiB);
    blank(kMiB, 4096);
    for (const auto& copies : {found(), found_everywhere()}) {
        ASSERT_EQ(copies.size(), 1U) << "the copies in other block groups tell";
        EXPECT_EQ(copies[0].offset, kMiB);
        EXPECT_THAT(copies[0].evidence, HasSubstr("block group"));
    }
}

TEST_F(LostVolumes, XfsIsToldByAnyAllocationGroup) {
    put(kMiB, volume("xfs-colony"));
    for (const bool is_first_gone : {false, true}) {
        if (is_first_gone) blank(kMiB, 64 << 10);
        const auto everywhere = found_everywhere();
        ASSERT_EQ(everywhere.size(), 1U) << is_first_gone;
        EXPECT_EQ(everywhere[0].type, "XFS");
        EXPECT_EQ(everywhere[0].name, "COLONY");
        EXPECT_EQ(everywhere[0].offset, kMiB);
        EXPECT_EQ(everywhere[0].length, 32 * kMiB);
        EXPECT_THAT(everywhere[0].evidence, HasSubstr(is_first_gone ? "allocation group 1" : "allocation group 0"));
    }
    EXPECT_EQ(found().size(), 1U) << "a quick look finds the second one, too";
    blank(17 * kMiB, 64 << 10);
    EXPECT_THAT(found_everywhere(), IsEmpty());
}

TEST_F(LostVolumes, BtrfsIsToldByItsSuperblock) {
    put(kMiB, volume("btrfs-notes"));
    for (const auto& volumes : {found(), found_everywhere()}) {
        ASSERT_EQ(volumes.size(), 1U);
        EXPECT_EQ(volumes[0].type, "Btrfs");
        EXPECT_EQ(volumes[0].name, "NOTES");
        EXPECT_EQ(volumes[0].offset, kMiB);
        EXPECT_EQ(volumes[0].length, 32 * kMiB);
    }
    // It tells its own place, and that is all there is to go by.
    const std::vector<std::byte> superblock(medium_.begin() + kMiB + (64 << 10), medium_.begin() + kMiB + (68 << 10));
    blank(kMiB + (64 << 10), 4096);
    put(3 * kMiB, superblock);
    const auto moved = found_everywhere();
    ASSERT_EQ(moved.size(), 1U);
    EXPECT_EQ(moved[0].offset, 3 * kMiB - (64 << 10));
}

// Fields of a volume header as TN1150 has them.
TEST_F(LostVolumes, HfsPlusIsToldByItsHeadersAtBothEnds) {
    constexpr std::uint64_t kLength = 8 * kMiB, kStart = 2 * kMiB;
    std::vector<std::byte> header(512);
    const auto put32 = [&](std::size_t at, std::uint32_t value) {
        for (std::size_t i = 0; i < 4; ++i) header[at + i] = static_cast<std::byte>(value >> (24 - 8 * i));
    };
    put32(0, 0x482B'0004);
    put32(40, 4096);
    put32(44, kLength / 4096);
    put32(48, 100);
    put(kStart + kLength - 1024, header);
    put(kStart + kLength, std::vector<std::byte>(kMiB));
    EXPECT_THAT(found_everywhere(), IsEmpty()) << "one header alone may be any file's content";
    put(kStart + 1024, header);
    const auto volumes = found_everywhere();
    ASSERT_EQ(volumes.size(), 1U);
    EXPECT_EQ(volumes[0].type, "HFS+");
    EXPECT_EQ(volumes[0].offset, kStart);
    EXPECT_EQ(volumes[0].length, kLength);
    put32(48, 4000);  // more free blocks than there are
    put(kStart + 1024, header);
    put(kStart + kLength - 1024, header);
    EXPECT_THAT(found_everywhere(), IsEmpty());
}

TEST_F(LostVolumes, HfsPlusIsToldByEitherHeaderAndItsCatalog) {
    put(kMiB, volume("hfsplus-worn"));
    put(7 * kMiB, std::vector<std::byte>(kMiB));
    for (const std::uint64_t gone : {std::uint64_t{0}, kMiB + 1024, 7 * kMiB - 1024}) {
        if (gone != 0) blank(gone, 512);
        const auto volumes = found_everywhere();
        ASSERT_EQ(volumes.size(), 1U) << gone;
        EXPECT_EQ(volumes[0].offset, kMiB);
        EXPECT_EQ(volumes[0].length, 6 * kMiB);
        if (gone != 0) put(kMiB, volume("hfsplus-worn"));
    }
}

TEST_F(LostVolumes, ApfsIsToldByItsCheckpoints) {
    put(kMiB, volume("apfs-station"));
    for (const bool is_headless : {false, true}) {
        if (is_headless) blank(kMiB, 4096);
        const auto volumes = found_everywhere();
        ASSERT_EQ(volumes.size(), 1U) << is_headless;
        EXPECT_EQ(volumes[0].type, "APFS");
        EXPECT_EQ(volumes[0].offset, kMiB);
        EXPECT_EQ(volumes[0].length, 520 * kMiB);
    }
}

}  // namespace
}  // namespace dredger

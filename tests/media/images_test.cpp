// Virtual disks, split and packed images that qemu-img and friends wrote, read piece by piece.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <random>
#include <thread>
#include <zstd.h>

#include "base/bytes.h"
#include "base/digest.h"
#include "media/opened.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::TempFolder;
using testing::AllOf;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;
using testing::SizeIs;

std::string sum_of(const Medium& medium) {
    constexpr std::size_t kPiece = 777 * 512;  // fits no cluster size
    Sha256 digest;
    std::vector<std::byte> piece(kPiece);
    for (std::uint64_t at = 0; at < medium.size(); at += kPiece) {
        const auto part = std::span(piece).first(std::min<std::uint64_t>(kPiece, medium.size() - at));
        std::vector<Extent> bad;
        EXPECT_TRUE(medium.read(at, part, &bad)) << medium.name();
        EXPECT_TRUE(bad.empty()) << medium.name() << " at " << at;
        digest.add(part);
    }
    return digest.finish();
}

TEST(DiskImages, OfAllKindsHoldTheSameDisk) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path());
    const auto truth = test::truth_of("disk-images");
    ASSERT_GT(truth.size(), 25U);
    for (const auto& [name, sum] : truth.items()) {
        const auto opened = open_medium(folder / name);
        ASSERT_TRUE(opened) << name << ": " << opened.error().line();
        EXPECT_EQ(sum_of(*opened->medium), sum.get<std::string>()) << name;
        EXPECT_NE(opened->form, "image") << name;
        EXPECT_FALSE(opened->is_raw()) << name;
        const bool builds_on_another = name.starts_with("child") || name.starts_with("subclusters");
        EXPECT_EQ(builds_on_another, builds_on_another && opened->files.size() == 2) << name;
    }
}

// Laid out as a Mac does: the disk in bands of 1 MiB, without those that are zeros.
TEST(DiskImages, ASparseBundleIsAFolderOfBands) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"fixed.vhd"});
    const auto disk = *open_medium(folder / "fixed.vhd");
    const auto bundle = folder / "Ledger.sparsebundle";
    std::filesystem::create_directories(bundle / "bands");
    constexpr std::size_t kBand = 1 << 20;
    test::write_text(
        bundle / "Info.plist",
        "<?xml version=\"1.0\"?><plist version=\"1.0\"><dict><key>band-size</key><integer>1048576</integer>"
        "<key>size</key><integer>" +
            std::to_string(disk.medium->size()) + "</integer></dict></plist>");
    unsigned left_out = 0;
    for (std::uint64_t at = 0, n = 0; at < disk.medium->size(); at += kBand, ++n) {
        auto bytes =
            *disk.medium->bytes(at, static_cast<std::size_t>(std::min<std::uint64_t>(kBand, disk.medium->size() - at)));
        while (!bytes.empty() && bytes.back() == std::byte{0}) bytes.pop_back();
        char name[16];
        std::snprintf(name, sizeof name, "%llx", static_cast<unsigned long long>(n));
        if (bytes.empty())
            ++left_out;
        else
            test::write_text(bundle / "bands" / name, {reinterpret_cast<const char*>(bytes.data()), bytes.size()});
    }
    EXPECT_GT(left_out, 0U);
    const auto opened = open_medium(bundle);
    ASSERT_TRUE(opened) << opened.error().line();
    EXPECT_EQ(opened->form, "sparse bundle");
    EXPECT_EQ(sum_of(*opened->medium), sum_of(*disk.medium));
    std::filesystem::remove(bundle / "Info.plist");
    const auto folder_alone = open_medium(bundle);
    ASSERT_FALSE(folder_alone);
    EXPECT_EQ(folder_alone.error().what, "this is a folder, not a medium");
}

TEST(DiskImages, AreReadAnywhereByManyThreadsAtOnce) {
    const TempFolder folder;
    const std::set<std::string> names = {"deflate.qcow2",  "dynamic.vhdx",  "streamOptimized.vmdk",
                                         "members.img.gz", "blocks.img.xz", "frames.img.zst",
                                         "mixed.dmg"};
    test::unpack_disk_images(folder.path(), names);
    test::unpack_disk_images(folder.path(), {"fixed.vhd"});
    const auto raw = *open_medium(folder / "fixed.vhd");
    for (const std::string& name : names) {
        const auto opened = open_medium(folder / name);
        ASSERT_TRUE(opened) << opened.error().line();
        std::atomic<int> differing = 0;
        const auto reader = [&](unsigned seed) {
            std::minstd_rand chance(seed);
            std::vector<std::byte> here(5000), there(5000);
            for (int n = 0; n < 200; ++n) {
                const std::uint64_t at = chance() % (opened->medium->size() - here.size());
                if (!opened->medium->read(at, here) || !raw.medium->read(at, there) || here != there) ++differing;
            }
        };
        std::thread one(reader, 1), two(reader, 2);
        one.join();
        two.join();
        EXPECT_EQ(differing, 0) << name;
    }
}

TEST(DiskImages, TellOfTheirSnapshots) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"snapshots.qcow2"});
    EXPECT_THAT(open_medium(folder / "snapshots.qcow2")->snapshots, ElementsAre("before the storm"));
    EXPECT_THAT(open_medium(folder / "snapshots.qcow2@yesterday").error().line(), HasSubstr("no snapshot yesterday"));
}

TEST(DiskImages, SayWhatTheyMiss) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"child.vhd", "child.vmdk", "child.qcow2", "twoGbMaxExtentSparse.vmdk",
                                             "external.qcow2", "twoGbMaxExtentSparse-s001.vmdk"});
    for (const char* name : {"child.vhd", "child.vmdk", "child.qcow2"})
        EXPECT_THAT(open_medium(folder / name).error().line(),
                    AllOf(HasSubstr("the parent disk is missing"), HasSubstr(name), HasSubstr("same folder")));
    EXPECT_THAT(open_medium(folder / "external.qcow2").error().line(), HasSubstr("external.data"));
    EXPECT_THAT(open_medium(folder / "twoGbMaxExtentSparse-s001.vmdk").error().line(), HasSubstr("one part of a VMDK"));
    fs::remove(folder / "twoGbMaxExtentSparse-s001.vmdk");
    EXPECT_THAT(open_medium(folder / "twoGbMaxExtentSparse.vmdk").error().line(),
                HasSubstr("twoGbMaxExtentSparse-s001.vmdk"));
}

TEST(DiskImages, RefuseAParentThatIsAnotherDisk) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"child.vhd", "child.vmdk", "fixed.vhd", "streamOptimized.vmdk"});
    fs::rename(folder / "fixed.vhd", folder / "dynamic.vhd");
    fs::rename(folder / "streamOptimized.vmdk", folder / "monolithicSparse.vmdk");
    for (const char* name : {"child.vhd", "child.vmdk"})
        EXPECT_THAT(open_medium(folder / name).error().line(), HasSubstr("another one, or was changed since"));
}

TEST(DiskImages, ThatBuildOnEachOtherInACircleAreRefused) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"child.qcow2"});
    fs::copy(folder / "child.qcow2", folder / "deflate.qcow2");
    EXPECT_THAT(open_medium(folder / "child.qcow2").error().line(), HasSubstr("circle"));
}

TEST(DiskImages, WithoutTheirEndUseTheCopyAtTheirStart) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"dynamic.vhd"});
    fs::resize_file(folder / "dynamic.vhd", fs::file_size(folder / "dynamic.vhd") - 512);
    const auto opened = open_medium(folder / "dynamic.vhd");
    ASSERT_TRUE(opened) << opened.error().line();
    EXPECT_THAT(opened->remarks, Contains(HasSubstr("copy at its start")));
    EXPECT_EQ(sum_of(*opened->medium), test::truth_of("disk-images")["dynamic.vhd"]);
}

TEST(DiskImages, OfAVhdxThatWasNotClosedTellTheLog) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"unclosed.vhdx"});
    const auto before = test::sha256_of(folder / "unclosed.vhdx");
    EXPECT_THAT(open_medium(folder / "unclosed.vhdx")->remarks, Contains(HasSubstr("log was replayed in memory")));
    EXPECT_EQ(test::sha256_of(folder / "unclosed.vhdx"), before);
}

TEST(DiskImages, InPartsAreReadAsOne) {
    const TempFolder folder;
    std::string whole(10'000, ' ');
    for (std::size_t i = 0; i < whole.size(); ++i) whole[i] = static_cast<char>(i * 7 % 251);
    const auto cut = [&](const std::string& stem, const std::vector<std::string>& endings) {
        for (std::size_t i = 0; i < endings.size(); ++i)
            test::write_text(folder / (stem + endings[i]), whole.substr(i * 4096, 4096));
        const auto opened = open_medium(folder / (stem + endings[0]));
        ASSERT_TRUE(opened);
        EXPECT_EQ(opened->form, "split image in 3 parts") << stem;
        EXPECT_EQ(opened->medium->bytes(0, whole.size()).value(), test::bytes_of(whole)) << stem;
    };
    cut("card.", {"001", "002", "003"});
    cut("island.img.", {"aa", "ab", "ac"});
    cut("log.part", {"0", "1", "2"});
    cut("nine.", {"00", "01", "02"});
    test::write_text(folder / "alone.001", whole);
    EXPECT_EQ(open_medium(folder / "alone.001")->form, "image");
}

TEST(DiskImages, OfTwoMediaAreNotJoined) {
    const TempFolder folder;
    test::unpack_to("fat12-floppy", folder.path());
    const std::string floppy = test::read_text(folder / "fat12-floppy.img");
    // Two cards; and two whole images that only count as parts do.
    for (const auto& [one, other] : {std::pair("card1", "card2"), std::pair("photo.img.1", "photo.img.2"),
                                     std::pair("disk.001", "disk.002"), std::pair("x.part0", "x.part1")}) {
        test::write_text(folder / one, floppy);
        test::write_text(folder / other, floppy);
        EXPECT_EQ(open_medium(folder / one)->form, "image") << one;
    }
    test::write_text(folder / "notes1", std::string(5000, 'a'));
    test::write_text(folder / "notes2", std::string(5000, 'b'));
    EXPECT_EQ(open_medium(folder / "notes1")->form, "image");
    // The first says itself that it goes on.
    test::write_text(folder / "half1", floppy.substr(0, floppy.size() / 2));
    test::write_text(folder / "half2", floppy.substr(floppy.size() / 2));
    EXPECT_EQ(open_medium(folder / "half1")->form, "split image in 2 parts");
}

TEST(DiskImages, InPartsCountOnPastTheirDigits) {
    const TempFolder folder;
    for (int i = 0; i < 12; ++i) test::write_text(folder / ("a.part" + std::to_string(i)), std::string(512, 'a'));
    EXPECT_EQ(open_medium(folder / "a.part0")->form, "split image in 12 parts");
}

// One frame that is too large to be kept in memory: it goes through a file without a name.
TEST(DiskImages, PackedInOneLargePieceAreReadAnywhere) {
    const TempFolder folder;
    std::string whole(40 << 20, '\0');
    for (std::size_t at = 0; at < whole.size(); at += 3 << 20) whole[at] = static_cast<char>(1 + at % 127);
    std::string packed(ZSTD_compressBound(whole.size()), ' ');
    packed.resize(ZSTD_compress(packed.data(), packed.size(), whole.data(), whole.size(), 1));
    test::write_text(folder / "card.img.zst", packed);
    const auto opened = open_medium(folder / "card.img.zst");
    ASSERT_TRUE(opened) << opened.error().line();
    ASSERT_EQ(opened->medium->size(), whole.size());
    for (const std::uint64_t at : {std::uint64_t{39} << 20, std::uint64_t{3} << 20, std::uint64_t{0}})
        EXPECT_EQ(opened->medium->bytes(at, 1 << 20).value(), test::bytes_of(whole.substr(at, 1 << 20))) << at;
    // Cut short: what comes out of it is there, the rest is bad.
    test::write_text(folder / "card.img.zst", packed.substr(0, packed.size() / 2));
    const auto cut = open_medium(folder / "card.img.zst");
    ASSERT_TRUE(cut) << cut.error().line();
    EXPECT_THAT(cut->remarks, Contains(HasSubstr("cut short")));
    EXPECT_EQ(cut->medium->bytes(0, 1 << 20).value(), test::bytes_of(whole.substr(0, 1 << 20)));
}

TEST(DiskImages, ThatAreCutShortSaySo) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path());
    for (const auto& item : fs::directory_iterator(folder.path())) {
        const auto opened = open_medium(item.path());
        EXPECT_THAT(opened ? opened->remarks : std::vector<std::string>(), Not(Contains(HasSubstr("cut short"))))
            << item.path();
    }
    for (const char* name : {"ext4-home.qcow2", "version2.qcow2", "subclusters.qcow2", "plain.vdi", "static.vdi",
                             "ntfs-small.vhdx", "fixed.vhdx"}) {
        const fs::path file = folder / name;
        const auto size = fs::file_size(file);
        fs::resize_file(file, size - size / 3);
        const auto opened = open_medium(file);
        ASSERT_TRUE(opened) << name << ": " << opened.error().line();
        EXPECT_THAT(opened->remarks, Contains(HasSubstr(std::string(name) + " is cut short"))) << name;
    }
}

// No program at hand writes such a disk: this one's map is emptied, and its header told to build on the other one.
TEST(DiskImages, AVdiThatBuildsOnAnotherFindsItByItsNumber) {
    constexpr std::size_t kType = 76, kMapAt = 340, kBlocks = 384, kCreated = 392, kBuildsOn = 424, kUuid = 16;
    constexpr std::uint32_t kDifferencing = 4;
    const TempFolder folder;
    test::unpack_disk_images(folder.path(), {"plain.vdi"});
    const std::string parent = test::read_text(folder / "plain.vdi");
    const auto number = [&](std::size_t at) { return *view_of(parent).u32le(at); };
    std::string child = parent;
    const auto put = [&](std::size_t at, std::uint32_t value) {
        for (unsigned i = 0; i < 4; ++i) child[at + i] = static_cast<char>(value >> (8 * i) & 0xFF);
    };
    put(kType, kDifferencing);
    child.replace(kBuildsOn, kUuid, parent, kCreated, kUuid);
    child[kCreated] = static_cast<char>(~child[kCreated]);
    const std::size_t map = number(kMapAt), blocks = number(kBlocks);
    ASSERT_GT(blocks, 4U);
    // The first block is its own, the second one was discarded.
    for (std::size_t i = 1; i < blocks; ++i) put(map + 4 * i, i == 1 ? 0xFFFF'FFFE : 0xFFFF'FFFF);
    test::write_text(folder / "child.vdi", child);
    const auto opened = open_medium(folder / "child.vdi");
    ASSERT_TRUE(opened) << opened.error().line();
    EXPECT_EQ(opened->files.size(), 2U);
    const auto whole = open_medium(folder / "plain.vdi");
    const std::uint64_t block = 1 << 20;
    for (std::uint64_t at = 0; at < opened->medium->size(); at += block) {
        const std::size_t length = static_cast<std::size_t>(std::min(block, opened->medium->size() - at));
        const auto here = opened->medium->bytes(at, length).value();
        const auto there = at == block ? std::vector<std::byte>(length) : whole->medium->bytes(at, length).value();
        EXPECT_TRUE(here == there) << at;
    }
    fs::rename(folder / "plain.vdi", folder / "plain.taken");
    const auto alone = open_medium(folder / "child.vdi");
    ASSERT_FALSE(alone);
    EXPECT_THAT(alone.error().line(), AllOf(HasSubstr("the parent disk is missing"), HasSubstr("same folder")));
}

TEST(DiskImages, PackedAndCutShortGiveWhatComesOutOfThem) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path());
    unsigned packed = 0;
    for (const auto& item : fs::directory_iterator(folder.path())) {
        const fs::path file = item.path();
        if (file.extension() != ".gz" && file.extension() != ".xz" && file.extension() != ".zst") continue;
        ++packed;
        const auto whole = open_medium(file);
        ASSERT_TRUE(whole) << whole.error().line();
        EXPECT_THAT(whole->remarks, Not(Contains(HasSubstr("cut short")))) << file;
        const auto first = whole->medium->bytes(0, 512).value();
        fs::resize_file(file, fs::file_size(file) / 2);
        const auto cut = open_medium(file);
        ASSERT_TRUE(cut) << cut.error().line();
        EXPECT_THAT(cut->remarks, Contains(HasSubstr("cut short"))) << file;
        EXPECT_GT(cut->medium->size(), 512U);
        EXPECT_EQ(cut->medium->bytes(0, 512).value(), first) << file;
    }
    EXPECT_GE(packed, 3U);
}

// Whatever is changed in an image, reading it ends, and nothing past its end is claimed.
TEST(DiskImages, ThatAreDamagedDoNoHarm) {
    const TempFolder folder;
    test::unpack_disk_images(folder.path());
    std::minstd_rand chance(17);
    const auto truth = test::truth_of("disk-images");
    for (const auto& [name, sum] : truth.items()) {
        if (name.find('@') != name.npos || fs::file_size(folder / name) > (6 << 20)) continue;
        const std::string whole = test::read_text(folder / name);
        for (int n = 0; n < 40; ++n) {
            std::string damaged = whole;
            if (n % 4 == 3) damaged.resize(chance() % damaged.size() + 1);
            // Tables and headers lie at either end.
            for (int hits = 0; hits < 12; ++hits) {
                const std::size_t reach = std::min<std::size_t>(damaged.size(), hits % 2 == 0 ? 4096 : 1 << 20);
                const std::size_t at = chance() % reach;
                damaged[n % 8 < 6 ? at : damaged.size() - 1 - at] = static_cast<char>(chance());
            }
            test::write_text(folder / name, damaged);
            const auto opened = open_medium(folder / name);
            if (!opened) continue;
            std::vector<std::byte> piece(64 << 10);
            for (std::uint64_t at = 0, reads = 0; at < opened->medium->size() && reads < 64; ++reads) {
                const auto part =
                    std::span(piece).first(std::min<std::uint64_t>(piece.size(), opened->medium->size() - at));
                std::vector<Extent> bad;
                EXPECT_TRUE(opened->medium->read(at, part, &bad)) << name;
                for (const Extent& lost : bad) EXPECT_LE(lost.end(), opened->medium->size());
                at += opened->medium->size() / 50 + 1;
            }
        }
        test::write_text(folder / name, whole);
    }
}

}  // namespace
}  // namespace dredger

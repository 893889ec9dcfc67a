#include <cstdlib>
#include <fcntl.h>
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include "base/aligned.h"
#include "media/cached.h"
#include "media/content.h"
#include "media/drives.h"
#include "media/file_medium.h"
#include "media/identity.h"
#include "media/window.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::bytes_of;
using test::MemoryMedium;
using test::TempFolder;
using testing::ElementsAre;
using testing::HasSubstr;

std::shared_ptr<MemoryMedium> counting(std::size_t size) {
    std::vector<std::byte> bytes(size);
    for (std::size_t i = 0; i < size; ++i) bytes[i] = static_cast<std::byte>(i * 7 + i / 256);
    return std::make_shared<MemoryMedium>(std::move(bytes));
}

TEST(Medium, PastTheEndIsAnErrorThatNamesThePlace) {
    const auto medium = counting(100);
    std::byte b[8];
    const auto read = medium->read(96, b);
    ASSERT_FALSE(read);
    EXPECT_EQ(read.error().where, "offset 96");
    EXPECT_FALSE(medium->bytes(UINT64_MAX, 2));
}

TEST(Medium, UnreadablePlacesAreReportedOrAnError) {
    const auto medium = counting(4096);
    medium->make_unreadable({1024, 512});
    std::vector<std::byte> bytes(4096);
    EXPECT_FALSE(medium->read(0, bytes));
    std::vector<Extent> bad;
    ASSERT_TRUE(medium->read(0, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{1024, 512}));
}

TEST(Window, ShiftsPlacesAndCutsAtTheEnd) {
    const auto whole = counting(4096);
    whole->make_unreadable({1536, 512});
    const Window window(whole, 1024, 10'000);
    EXPECT_EQ(window.size(), 3072U);
    EXPECT_EQ(window.bytes(5, 1).value()[0], whole->bytes(1029, 1).value()[0]);
    std::vector<std::byte> bytes(1024);
    std::vector<Extent> bad;
    ASSERT_TRUE(window.read(0, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{512, 512}));
    EXPECT_EQ(Window(whole, 9999, 5).size(), 0U);
}

TEST(Cached, GivesTheSameBytesAsTheMedium) {
    const auto whole = counting(100'000);
    whole->make_unreadable({20'000, 100});
    const Cached cached(whole, 2);
    for (const std::uint64_t offset : {0U, 16'380U, 70'000U, 99'990U, 16'380U})
        EXPECT_EQ(cached.bytes(offset, 10).value(), whole->bytes(offset, 10).value()) << offset;
    std::vector<std::byte> bytes(40'000);
    std::vector<Extent> bad;
    ASSERT_TRUE(cached.read(10'000, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{20'000, 100}));
}

TEST(Content, ReadsItsPiecesInOrderAndTellsItsHoles) {
    const auto whole = std::make_shared<MemoryMedium>(bytes_of("0123456789"));
    const Content content(whole, {{7, 2}, Extent::unknown(3), {0, 4}});
    EXPECT_EQ(content.size(), 9U);
    std::vector<std::byte> bytes(9);
    std::vector<Extent> bad;
    ASSERT_TRUE(content.read(0, bytes, &bad));
    EXPECT_EQ(bytes, bytes_of(std::string_view("78\0\0\0"
                                               "0123",
                                               9)));
    EXPECT_THAT(bad, ElementsAre(Extent{2, 3}));
    EXPECT_EQ(content.bytes(6, 2).value(), bytes_of("12"));
}

TEST(Content, TellsWhereItsBytesLie) {
    const auto medium = std::make_shared<test::MemoryMedium>(std::vector<std::byte>(1000));
    const Content content(medium, {{100, 50}, {150, 50}, {400, 100}, Extent::unknown(10)});
    EXPECT_THAT(content.places_of(20, 60), ElementsAre(Extent{120, 60})) << "neighbours are one place";
    EXPECT_THAT(content.places_of(90, 30), ElementsAre(Extent{190, 10}, Extent{400, 20}));
    EXPECT_THAT(content.places_of(195, 100), ElementsAre(Extent{495, 5}, Extent::unknown(10)));
    EXPECT_TRUE(content.places_of(500, 1).empty());
}

TEST(Content, WhatLiesBeyondTheMediumIsAHole) {
    const auto whole = std::make_shared<MemoryMedium>(bytes_of("0123456789"));
    const Content content(whole, {{8, 6}});
    std::vector<std::byte> bytes(6);
    std::vector<Extent> bad;
    ASSERT_TRUE(content.read(0, bytes, &bad));
    EXPECT_THAT(bad, ElementsAre(Extent{2, 4}));
}

TEST(FileMedium, SaysClearlyWhyASourceCanNotBeRead) {
    const TempFolder folder;
    test::write_text(folder / "empty.img", "");
    EXPECT_THAT(FileMedium::open(folder / "missing.img").error().line(), HasSubstr("no such file"));
    EXPECT_THAT(FileMedium::open(folder.path()).error().line(), HasSubstr("folder"));
    EXPECT_THAT(FileMedium::open(folder / "empty.img").error().line(), HasSubstr("empty"));
    EXPECT_THAT(FileMedium::open("/dev/null").error().line(), HasSubstr("neither"));
}

TEST(FileMedium, ReadsAnImage) {
    const TempFolder folder;
    test::write_text(folder / "a.img", "hello world");
    const auto medium = FileMedium::open(folder / "a.img");
    ASSERT_TRUE(medium);
    EXPECT_EQ((*medium)->size(), 11U);
    EXPECT_EQ((*medium)->bytes(6, 5).value(), bytes_of("world"));
    EXPECT_FALSE((*medium)->is_device());
}

// Large reads of what is not in memory pass by it; they must give the same bytes.
TEST(FileMedium, ReadsALargeImageWhateverIsInMemory) {
    const TempFolder folder;
    const std::filesystem::path file = folder / "large.img";
    constexpr std::uint64_t kSize = (300 << 20) + 512;
    test::write_text(file, "start");
    std::filesystem::resize_file(file, kSize);
    {
        std::fstream out(file, std::ios::in | std::ios::out | std::ios::binary);
        for (std::uint64_t at = 4096; at < kSize; at += (1 << 20) - 512)
            out.seekp(static_cast<std::streamoff>(at)) << at;
    }
    const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC);
    ::fsync(descriptor);
    ::posix_fadvise(descriptor, 0, 0, POSIX_FADV_DONTNEED);
    const auto medium = FileMedium::open(file);
    ASSERT_TRUE(medium);
    AlignedBytes bytes(1 << 20);
    std::vector<std::byte> expected(bytes.size());
    for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{100} << 20, (std::uint64_t{200} << 20) + 512,
                                   kSize - bytes.size(), (std::uint64_t{50} << 20) + 100}) {
        ASSERT_TRUE((*medium)->read(at, bytes)) << at;
        ASSERT_EQ(::pread(descriptor, expected.data(), expected.size(), static_cast<off_t>(at)),
                  static_cast<ssize_t>(expected.size()));
        EXPECT_TRUE(std::equal(bytes.begin(), bytes.end(), expected.begin())) << at;
    }
    ::close(descriptor);
}

TEST(Identity, KnowsAMediumAgain) {
    const TempFolder folder;
    std::string content(1 << 20, 'x');
    for (std::size_t i = 0; i < content.size(); i += 4096) content[i] = static_cast<char>(i / 4096);
    test::write_text(folder / "a.img", content);
    const Identity scanned = identify(*open_medium(folder / "a.img")).value();
    EXPECT_EQ(scanned.samples.size(), 64U);
    EXPECT_TRUE(compare(scanned, scanned).same);
    EXPECT_TRUE(compare(scanned, scanned).finding.empty());

    Identity touched = scanned;
    touched.samples[3] = "other";
    EXPECT_TRUE(compare(scanned, touched).same);
    EXPECT_THAT(compare(scanned, touched).finding, HasSubstr("1 of 64"));
    for (std::size_t i = 0; i < 20; ++i) touched.samples[i] = "other";
    EXPECT_FALSE(compare(scanned, touched).same);
    Identity longer = scanned;
    longer.size += 512;
    EXPECT_FALSE(compare(scanned, longer).same);
    Identity a = scanned;
    Identity b = scanned;
    a.serial = "RS-1";
    b.serial = "RS-2";
    EXPECT_FALSE(compare(a, b).same);
}

TEST(Drives, TheSourceItselfIsNoPlaceToWriteTo) {
    const TempFolder folder;
    test::write_text(folder / "a.img", "hello");
    EXPECT_THAT(writing_endangers(folder / "a.img", folder / "a.img"), HasSubstr("source itself"));
    EXPECT_EQ(writing_endangers(folder / "restored/deep", folder / "a.img"), "");
}

// A loop device on an image, mounted; where that is not allowed there is none.
class LoopMount {
  public:
    LoopMount(const std::filesystem::path& image, const std::filesystem::path& folder) : folder_(folder) {
        std::filesystem::create_directory(folder);
        const std::string quiet = " >/dev/null 2>&1";
        mounted_ = std::system(("mkfs.ext2 -q " + image.string() + quiet).c_str()) == 0 &&
                   std::system(("mount -o loop " + image.string() + " " + folder.string() + quiet).c_str()) == 0;
    }
    ~LoopMount() {
        if (mounted_) [[maybe_unused]]
            const int done = std::system(("umount " + folder_.string()).c_str());
    }
    LoopMount(const LoopMount&) = delete;
    LoopMount& operator=(const LoopMount&) = delete;
    bool is_mounted() const { return mounted_; }

  private:
    std::filesystem::path folder_;
    bool mounted_ = false;
};

TEST(Drives, AnImageThatIsMountedFromTheSourceIsNoPlaceToWriteTo) {
    const TempFolder folder;
    test::write_text(folder / "drive.img", std::string(4 << 20, '\0'));
    test::write_text(folder / "other.img", "another image");
    const LoopMount mount(folder / "drive.img", folder / "mnt");
    if (!mount.is_mounted()) GTEST_SKIP() << "loop devices can't be mounted here";
    EXPECT_THAT(writing_endangers(folder / "mnt/restored", folder / "drive.img"), HasSubstr("mounted from the source"));
    EXPECT_EQ(writing_endangers(folder / "mnt/restored", folder / "other.img"), "");
    const auto drives = list_drives().value();
    for (const Drive& drive : drives) {
        if (drive.model.find((folder / "drive.img").string()) == std::string::npos) continue;
        EXPECT_THAT(writing_endangers(folder / "mnt", drive.device), HasSubstr("same drive"));
        ASSERT_EQ(drive.partitions.size(), 1U);
        EXPECT_EQ(drive.partitions[0].filesystem, "ext2");
        EXPECT_THAT(drive.partitions[0].mount_points, ElementsAre((folder / "mnt").string()));
        EXPECT_TRUE(drive.partitions[0].writable);
        EXPECT_EQ(mounts_on_drive_of(drive.device).size(), 1U);
    }
}

TEST(Drives, AMountedDriveIsNoPlaceToWriteToWhileItIsRead) {
    const auto drives = list_drives().value();
    unsigned checked = 0;
    for (const Drive& drive : drives) {
        // Others may attach and release loop devices while this test looks.
        if (drive.device.starts_with("/dev/loop")) continue;
        for (const Partition& partition : drive.partitions) {
            if (partition.mount_points.empty()) continue;
            EXPECT_THAT(writing_endangers(partition.mount_points.front(), drive.device), HasSubstr("same drive"));
            EXPECT_THAT(writing_endangers(partition.mount_points.front(), partition.device), HasSubstr("same drive"));
            ++checked;
        }
    }
    if (checked == 0) GTEST_SKIP() << "no drive of this machine is mounted here";
}

TEST(Drives, AreListedWithoutFailing) { EXPECT_TRUE(list_drives()); }

}  // namespace
}  // namespace dredger

// Two runs that want to write to the same place, and large files beside many small ones.
#include <fstream>
#include <future>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <optional>
#include <sys/stat.h>

#include "base/csv.h"
#include "base/file_lock.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using test::TempFolder;
using testing::HasSubstr;

class TwoAtOnce : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("fat32-stick", folder_.path()).string();
        ASSERT_EQ(run_program({"scan", image_, "-c", path("a.dredge")}).exit_code, 0);
    }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    // Runs the command while somebody else holds `place`, and afterwards.
    void expect_refused(const std::vector<std::string>& words, const std::string& place, const char* why) {
        std::optional<FileLock> other(path(place));
        const Ran refused = run_program(words);
        EXPECT_EQ(refused.exit_code, 4);
        EXPECT_EQ(refused.out, "");
        EXPECT_EQ(std::count(refused.err.begin(), refused.err.end(), '\n'), 1) << refused.err;
        EXPECT_THAT(refused.err, testing::AllOf(HasSubstr(why), HasSubstr(path(place)), HasSubstr("wait until")));
        other.reset();
        EXPECT_EQ(run_program(words).exit_code, 0);
    }

    TempFolder folder_;
    std::string image_;
};

TEST_F(TwoAtOnce, TheSecondRestoreIsRefused) {
    fs::create_directory(folder_ / "out");
    expect_refused({"restore", path("a.dredge"), "--to", path("out")}, "out", "another restore");
}

TEST_F(TwoAtOnce, TheSecondScanIsRefusedAndReadersAreNot) {
    {
        const FileLock other(path("a.dredge"));
        EXPECT_EQ(run_program({"list", path("a.dredge")}).exit_code, 0);
        EXPECT_EQ(run_program({"restore", path("a.dredge"), "--to", path("elsewhere")}).exit_code, 0);
    }
    expect_refused({"scan", image_, "-c", path("a.dredge")}, "a.dredge", "another scan");
}

TEST_F(TwoAtOnce, TheSecondCopyIsRefused) {
    ASSERT_EQ(run_program({"image", image_, path("copy.img")}).exit_code, 0);
    expect_refused({"image", image_, path("copy.img")}, "copy.img", "another copy");
    EXPECT_EQ(test::sha256_of(path("copy.img")), test::sha256_of(image_));
}

TEST_F(TwoAtOnce, HoweverTheyMeetTheDestinationIsWhole) {
    const std::vector<std::string> words = {"restore", path("a.dredge"), "--to", path("out")};
    for (int round = 0; round < 5; ++round) {
        fs::remove_all(folder_ / "out");
        auto other = std::async(std::launch::async, [&] { return run_program(words); });
        const Ran one = run_program(words);
        const Ran two = other.get();
        EXPECT_TRUE(one.exit_code == 0 || two.exit_code == 0) << one.err << two.err;
        for (const Ran& ran : {one, two})
            if (ran.exit_code != 0) {
                EXPECT_THAT(ran.err, HasSubstr("another restore")) << ran.err;
            }
        const auto rows = parse_csv(test::read_text(folder_ / "out/manifest.csv")).value();
        ASSERT_GT(rows.size(), 10U);
        for (const auto& row : rows)
            if (!row.at("sha256").empty()) {
                EXPECT_EQ(test::sha256_of(folder_ / "out" / row.at("restored_path")), row.at("sha256"));
            }
        EXPECT_FALSE(fs::exists(folder_ / "out/.dredger-unfinished"));
    }
}

TEST(LargeBesideSmall, ALargeFileComesLastWithItsHoles) {
    constexpr std::uint64_t kLarge = 96 << 20;
    const TempFolder folder;
    const auto file = [&](const std::string& name) { return folder / "station" / name; };
    fs::create_directory(folder / "station");
    test::write_text(file("a night at ledge 4.raw"), std::string(300'000, 'n'));
    fs::resize_file(file("a night at ledge 4.raw"), kLarge);
    {
        std::fstream out(file("a night at ledge 4.raw"), std::ios::in | std::ios::out | std::ios::binary);
        out.seekp(70 << 20);
        out << "the burrow camera wakes up";
    }
    for (int n = 0; n < 40; ++n)
        test::write_text(file("ring " + std::to_string(n) + ".csv"), std::string(200, static_cast<char>('a' + n % 26)));
    const std::string image = (folder / "hut.img").string();
    std::ofstream(image).close();
    fs::resize_file(image, 160 << 20);
    const std::string make =
        "mke2fs -q -F -t ext4 -d " + (folder / "station").string() + " " + image + " >/dev/null 2>&1";
    if (std::system(make.c_str()) != 0) GTEST_SKIP() << "mke2fs is not here";
    const std::string catalog = (folder / "a.dredge").string();
    ASSERT_EQ(run_program({"scan", image, "-c", catalog}).exit_code, 0);
    for (const char* sums : {"sha256", "xxh128"}) {
        const fs::path out = folder / sums;
        const Ran ran = run_program({"restore", catalog, "--state", "live", "--sums", sums, "--to", out.string()});
        ASSERT_EQ(ran.exit_code, 0) << ran.err;
        const auto rows = parse_csv(test::read_text(out / "manifest.csv")).value();
        ASSERT_EQ(rows.size(), 41U);
        EXPECT_EQ(rows.back().at("original_path"), "a night at ledge 4.raw") << "first by its name";
        for (const auto& item : fs::directory_iterator(folder / "station"))
            EXPECT_EQ(test::sha256_of(out / item.path().filename()), test::sha256_of(item.path())) << item.path();
        struct stat facts {};
        ASSERT_EQ(::stat((out / "a night at ledge 4.raw").c_str(), &facts), 0);
        EXPECT_EQ(facts.st_size, static_cast<off_t>(kLarge));
        EXPECT_LT(facts.st_blocks * 512, 4 << 20) << "holes stay holes";
    }
}

}  // namespace
}  // namespace dredger

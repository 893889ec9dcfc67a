// Copies of media, killed and taken up again, and what the other commands make of them.
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sys/mount.h>

#include "catalog/catalog.h"
#include "media/area_map.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using test::TempFolder;
using testing::AllOf;
using testing::AnyOf;
using testing::HasSubstr;
using testing::Not;

class ImageTest : public testing::Test {
  protected:
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    TempFolder folder_;
};

TEST_F(ImageTest, ACopyIsTheSameByteForByte) {
    const std::string source = test::unpack_to("fat32-stick", folder_.path()).string();
    const auto done = run_program({"image", source, path("copy.img")});
    EXPECT_EQ(done.exit_code, 0) << done.err;
    EXPECT_THAT(done.out, AllOf(HasSubstr("all 38.0 MiB are safe"), HasSubstr("all promptly"),
                                HasSubstr(test::sha256_of(source)), HasSubstr("dredger scan " + path("copy.img"))));
    EXPECT_EQ(test::sha256_of(folder_ / "copy.img"), test::sha256_of(source));
    const auto again = run_program({"image", source, path("copy.img")});
    EXPECT_THAT(again.out, HasSubstr("taken up again"));
    EXPECT_EQ(again.exit_code, 0);
    const auto refused = run_program({"image", source, source});
    EXPECT_EQ(refused.exit_code, 4);
    EXPECT_THAT(refused.err, HasSubstr("the source itself"));
    EXPECT_EQ(run_program({"image", source, path("b.img"), "--piece", "7"}).exit_code, 2);
    EXPECT_EQ(run_program({"image", source, path("b.img"), "--within", "9M..1M"}).exit_code, 2);
}

TEST_F(ImageTest, KilledAtManyPointsItGoesOnToTheSameBytes) {
    const std::string source = test::unpack_to("ringing-station-drive", folder_.path()).string();
    const auto sum = test::sha256_of(source);
    int killed = 0;
    for (int after = 2; after < 120; after += 9) {
        const std::string copy = path("copy" + std::to_string(after));
        std::vector<std::string> words = {"image", source, copy, "--piece", "64K"};
        if (after % 2 == 0) words.emplace_back("--backwards");
        for (int n = 1; n <= 3; ++n) {
            const int signal = n == 2 ? SIGINT : SIGKILL;
            const int code = run_program(words, {"", signal, after / n}).exit_code;
            EXPECT_THAT(code, AnyOf(0, 130, 137));
            killed += code == 137 ? 1 : 0;
        }
        const auto done = run_program(words);
        EXPECT_EQ(done.exit_code, 0) << done.err;
        EXPECT_EQ(test::sha256_of(copy), sum) << "after " << after;
        EXPECT_THAT(done.out, HasSubstr(sum));
        fs::remove(copy);
    }
    EXPECT_GT(killed, 5);
}

// What the map calls bad is known to every command that reads the copy.
// What was queued behind the write that failed is not called done, with room for the map and without.
TEST_F(ImageTest, ADestinationThatFillsUpIsGoneOnWithLater) {
    const std::string card = test::unpack_to("fat16-card", folder_.path()).string();
    const fs::path small = folder_ / "small";
    fs::create_directory(small);
    fs::create_symlink(small / "elsewhere.img", folder_ / "map-has-room.img");
    for (const fs::path& copy : {small / "card.img", folder_ / "map-has-room.img"}) {
        if (::mount("tmpfs", small.c_str(), "tmpfs", 0, "size=1m") != 0) GTEST_SKIP() << "mounting is not allowed here";
        const Ran full = run_program({"image", card, copy.string(), "--piece", "16K"});
        ::mount("tmpfs", small.c_str(), "tmpfs", MS_REMOUNT, "size=64m");
        const AreaMap map = AreaMap::read(AreaMap::beside(copy)).value();
        const Ran rest = run_program({"image", card, copy.string(), "--piece", "16K"});
        const std::string bytes = test::read_text(copy);
        ::umount(small.c_str());
        EXPECT_EQ(full.exit_code, 1) << full.err;
        EXPECT_THAT(full.err, HasSubstr("make room"));
        EXPECT_THAT(full.out, HasSubstr("NOT ASKED"));
        EXPECT_EQ(map.totals().held() > 0, copy.parent_path() == folder_.path());
        EXPECT_EQ(rest.exit_code, 0) << rest.err;
        EXPECT_THAT(rest.out, HasSubstr("taken up again"));
        EXPECT_TRUE(bytes == test::read_text(card)) << copy;
    }
}

TEST_F(ImageTest, BadAreasOfACopyCountInTheProspect) {
    const std::string image = test::unpack_to("fat16-card", folder_.path()).string();
    ASSERT_EQ(run_program({"scan", image, "-c", path("whole.dredge")}).exit_code, 0);
    const auto json_of = [&](const std::string& catalog) {
        const auto listed =
            run_program({"list", path(catalog), "--name", "NEST0003.JPG", "--as", "jsonl", "--extents"});
        return nlohmann::json::parse(listed.out);
    };
    const auto before = json_of("whole.dredge");
    EXPECT_EQ(before["band"], "sound");
    const auto start = before["extents"][0][0].get<std::uint64_t>();
    AreaMap map(fs::file_size(image));
    map.answer({0, map.size()}, true);
    map.set(start + 512, 1024, {Asked::Outcome::refused, 5});
    ASSERT_TRUE(map.write(AreaMap::beside(image)));

    EXPECT_THAT(run_program({"survey", image}).out, HasSubstr("1.0 KiB of the medium are not in this copy"));
    const auto scan = run_program({"scan", image, "-c", path("bad.dredge")});
    EXPECT_EQ(scan.exit_code, 1);
    EXPECT_THAT(scan.err, HasSubstr("can't be read; what lies there counts as lost in one prospect"));
    const auto after = json_of("bad.dredge");
    EXPECT_EQ(after["band"], "patchy");
    EXPECT_LT(after["prospect"], before["prospect"]);
    EXPECT_THAT(after["reasons"].dump(), HasSubstr("1024 bytes of it lie where the medium can't be read"));

    const auto restored = run_program({"restore", path("bad.dredge"), "--name", "NEST0003.JPG", "--to", path("out")});
    EXPECT_EQ(restored.exit_code, 1);
    EXPECT_THAT(restored.out, AllOf(HasSubstr("partial"), HasSubstr("bytes not had: 512+1024")));
    // The copy may be completed later: what its map tells now is not what reads told.
    EXPECT_TRUE(Catalog::open(path("bad.dredge"))->bad_areas(1)->empty());
    EXPECT_THAT(run_program({"scan", "--deep", image, "-c", path("bad.dredge")}).exit_code, 1);
    EXPECT_EQ(json_of("bad.dredge")["band"], "patchy");
    fs::remove(AreaMap::beside(image));
    const auto completed = run_program({"scan", image, "-c", path("bad.dredge")});
    EXPECT_EQ(completed.exit_code, 0) << completed.err;
    EXPECT_THAT(completed.out, HasSubstr("1.0 KiB that could not be read before were read again"));
    EXPECT_EQ(json_of("bad.dredge")["band"], "sound");
}

// In the hour before a drive dies: its structures within seconds, a scan of these, then what was chosen from it.
TEST_F(ImageTest, TheChosenFilesComeBeforeTheRest) {
    const std::string source = test::unpack_to("fat16-card", folder_.path()).string();
    const auto start = run_program({"image", source, path("copy.img"), "--within", "0..1400K", "--for", "1m"});
    EXPECT_EQ(start.exit_code, 1) << start.err;
    EXPECT_THAT(start.out, AllOf(HasSubstr("what file systems keep"), HasSubstr("without --within goes on")));
    ASSERT_EQ(run_program({"scan", path("copy.img"), "-c", path("copy.dredge")}).exit_code, 1);
    const auto chosen = run_program(
        {"image", source, path("copy.img"), "-c", path("copy.dredge"), "--name", "NEST0003.JPG", "--within", "0..8M"});
    EXPECT_THAT(chosen.out, HasSubstr("the chosen files"));
    const auto rest = run_program({"image", source, path("copy.img")});
    EXPECT_EQ(rest.exit_code, 0) << rest.err;
    EXPECT_EQ(test::sha256_of(folder_ / "copy.img"), test::sha256_of(source));

    EXPECT_THAT(run_program({"image", source, path("b.img"), "--name", "*.JPG"}).err, HasSubstr("-c NAME.dredge"));
    EXPECT_EQ(run_program({"image", source, path("b.img"), "--for", "soon"}).exit_code, 2);
    EXPECT_EQ(run_program({"image", source, path("b.img"), "-c", path("copy.dredge"), "--name", "none"}).exit_code, 2);
    EXPECT_FALSE(fs::exists(path("b.img")));
}

TEST_F(ImageTest, AVirtualDiskIsScannedAsItIs) {
    test::unpack_disk_images(folder_.path(), {"snapshots.qcow2", "fixed.vhd"});
    const auto survey = run_program({"survey", path("snapshots.qcow2")});
    EXPECT_THAT(survey.out,
                AllOf(HasSubstr("QCOW2 disk, 8.0 MiB"), HasSubstr("FERRYLOG"), HasSubstr("before the storm")));
    for (const char* source : {"snapshots.qcow2", "snapshots.qcow2@before the storm", "fixed.vhd"}) {
        const auto scan = run_program({"scan", path(source), "-c", path("a.dredge")});
        EXPECT_EQ(scan.exit_code, 0) << scan.err;
        const auto restored = run_program({"restore", path("a.dredge"), "--to", path("out")});
        EXPECT_THAT(restored.exit_code, AnyOf(0, 1)) << restored.err;
        EXPECT_THAT(test::read_text(folder_ / "out/SHA256SUMS"), HasSubstr("NESTS/NEST02.JPG"));
        fs::remove(path("a.dredge"));
        fs::remove_all(path("out"));
    }
    EXPECT_EQ(run_program({"scan", path("snapshots.qcow2@never"), "-c", path("a.dredge")}).exit_code, 2);
}

}  // namespace
}  // namespace dredger

// The safe and honest way is the one that is taken where nobody says otherwise.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::Ran;
using test::run_program;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class SafeWaysTest : public testing::Test {
  protected:
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    std::string catalog() const { return path("a.dredge"); }
    Ran scanned(const std::string& fixture, std::vector<std::string> more = {}) {
        image_ = test::unpack_to(fixture, folder_.path()).string();
        std::vector<std::string> words = {"scan", image_, "-c", catalog()};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words);
    }

    test::TempFolder folder_;
    std::string image_;
};

TEST_F(SafeWaysTest, WhatIsGoneIsNotRestoredUnlessAskedFor) {
    scanned("ringing-station-drive");
    const Ran all = run_program({"restore", catalog(), "--to", path("out")});
    EXPECT_EQ(all.exit_code, 1) << "not all that was selected came back whole";
    EXPECT_THAT(all.out, AllOf(HasSubstr("2 files were left out, of which nothing is left"), HasSubstr("--band gone")));
    EXPECT_THAT(test::read_text(folder_ / "out/manifest.csv"), Not(HasSubstr("NEST0001.JPG")));
    const Ran gone = run_program({"restore", catalog(), "--name", "NEST0001", "--to", path("gone")});
    EXPECT_EQ(gone.exit_code, 1);
    EXPECT_THAT(gone.err, AllOf(HasSubstr("nothing is left (1 file)"), HasSubstr("--band gone")));
    EXPECT_FALSE(fs::exists(folder_ / "gone"));
    for (const auto& asked :
         std::vector<std::vector<std::string>>{{"--band", "gone"}, {"--prospect", "0.."}, {"--id", "31"}}) {
        std::vector<std::string> words = {"restore", catalog(), "--name", "NEST0001", "--to", path("asked" + asked[0])};
        words.insert(words.end(), asked.begin(), asked.end());
        const Ran ran = run_program(words);
        EXPECT_EQ(ran.exit_code, 1) << asked[0];
        EXPECT_THAT(ran.out, HasSubstr("1 doubtful")) << asked[0];
    }
}

TEST_F(SafeWaysTest, ASidecarNamesWhatIsNotTheFilesOwn) {
    scanned("ringing-station-drive");
    run_program({"restore", catalog(), "--band", "patchy,gone", "--partials", "aside", "--to", path("out")});
    std::size_t sidecars = 0;
    for (const auto& entry : fs::recursive_directory_iterator(folder_ / "out")) {
        if (!entry.path().string().ends_with(".missing.json")) continue;
        ++sidecars;
        const json side = json::parse(test::read_text(entry.path()));
        EXPECT_FALSE(side["missing"].empty() && side["overwritten"].empty() && side["unknown"].empty()) << entry.path();
    }
    EXPECT_GE(sidecars, 3U);
}

TEST_F(SafeWaysTest, AScanStopsForWhatIsWorthIt) {
    const Ran scan = scanned("ringing-station-drive", {"--until", "NEST0001*"});
    EXPECT_THAT(scan.out, Not(HasSubstr("has turned up"))) << "it is gone";
    fs::remove(folder_ / "a.dredge");
    const Ran whole = scanned("ringing-station-drive", {"--until", "NEST0002*"});
    EXPECT_THAT(whole.out,
                AllOf(HasSubstr("has turned up"), HasSubstr("87 patchy"), HasSubstr("DCIM/100NESTS/NEST0002.JPG")));
    fs::remove(folder_ / "a.dredge");
    EXPECT_THAT(scanned("ringing-station-drive", {"--until", "NEST0001*", "--until-band", "gone"}).out,
                HasSubstr("0 gone"));
}

TEST_F(SafeWaysTest, WhatIsProvenComesBeforeWhatIsNot) {
    scanned("ringing-station-drive", {"--deep"});
    const std::string out = run_program({"list", catalog(), "--as", "jsonl"}).out;
    std::istringstream lines(out);
    int last = 101;
    bool is_unproven = false;
    for (std::string line; std::getline(lines, line);) {
        const json find = json::parse(line);
        if (find["folder"]) break;
        if (find["prospect"] != last) is_unproven = false;
        last = find["prospect"];
        EXPECT_FALSE(is_unproven && find["check"] == "verified") << line;
        is_unproven = is_unproven || find["check"] == "unknown";
    }
}

TEST_F(SafeWaysTest, HousekeepingIsKnownAndNotInTheWay) {
    scanned("ringing-station-drive");
    const auto names = [&](std::vector<std::string> more) {
        std::vector<std::string> words = {"list", catalog(), "--state", "live", "--as", "jsonl"};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words).out;
    };
    for (const char* own : {"$MFT", "$Bitmap", "$RECYCLE.BIN/S-1-5-21-", "lost+found"}) {
        const std::string path = std::string("\"path\":\"") + own;
        EXPECT_THAT(names({}), Not(HasSubstr(path))) << own;
        EXPECT_TRUE(names({"--housekeeping"}).find(path) != std::string::npos) << own;
    }
}

TEST_F(SafeWaysTest, NothingIsWrittenOntoTheMediumByAnyCommand) {
    scanned("fat12-floppy");
    const auto before = test::sha256_of(image_);
    const std::vector<std::vector<std::string>> commands = {
        {"scan", image_, "-c", image_ + "/x.dredge"},
        {"restore", catalog(), "--to", image_},
        {"report", catalog(), "--to", image_},
        {"preview", catalog(), "--to", image_},
        {"picks", "add", image_, catalog(), "--prospect", "0.."},
        {"repair", catalog(), "--to", image_},
    };
    for (const auto& words : commands) {
        const Ran ran = run_program(words);
        EXPECT_EQ(ran.exit_code, 4) << words[0] << ": " << ran.err;
        EXPECT_THAT(ran.err, HasSubstr("--onto-same-drive")) << words[0];
    }
    EXPECT_EQ(run_program({"image", image_, image_}).exit_code, 4);
    EXPECT_EQ(test::sha256_of(image_), before);
}

// Whoever can write into the destination plants links: nothing is written through them, whatever the command.
TEST_F(SafeWaysTest, LinksInADestinationLeadNowhere) {
    scanned("ringing-station-drive");
    const fs::path outside = folder_ / "outside";
    fs::create_directory(outside);
    test::write_text(outside / "mine", "mine");
    const auto is_untouched = [&] {
        std::size_t files = 0;
        for ([[maybe_unused]] const auto& entry : fs::recursive_directory_iterator(outside)) ++files;
        return files == 1 && test::read_text(outside / "mine") == "mine";
    };
    const auto planted = [&](const std::string& name, const std::string& place, bool is_folder = false) {
        const fs::path to = folder_ / name;
        fs::create_directories((to / place).parent_path());
        fs::create_symlink(is_folder ? outside : outside / "mine", to / place);
        return to.string();
    };
    // A folder of the tree gets another name beside it.
    const std::string tree = planted("tree", "volume 1 RINGCARD", true);
    EXPECT_EQ(run_program({"restore", catalog(), "--volume-folders", "--prospect", "90..", "--to", tree}).exit_code, 0);
    EXPECT_TRUE(fs::exists(fs::path(tree) / "volume 1 RINGCARD (2)/DCIM/100NESTS/NEST0005.JPG"));
    EXPECT_TRUE(is_untouched());
    for (const char* book : {"restore.log", "manifest.csv", "SHA256SUMS", ".dredger-unfinished"}) {
        const std::string to = planted(std::string("books ") + book, book, book[0] == '.');
        const Ran ran = run_program({"restore", catalog(), "--prospect", "90..", "--to", to});
        EXPECT_NE(ran.exit_code, 0) << book;
        EXPECT_THAT(ran.err, HasSubstr("a link stands where this is to be written")) << book;
        EXPECT_TRUE(is_untouched()) << book;
    }
    for (const char* half : {"manifest.csv.new", "SHA256SUMS.new"})
        run_program({"restore", catalog(), "--prospect", "90..", "--to", planted(std::string("half ") + half, half)});
    run_program({"report", catalog(), "--to", planted("report", "report.html")});
    run_program({"report", catalog(), "--to", planted("finds", "finds.dfxml")});
    run_program({"preview", catalog(), "--limit", "2", "--to", planted("page", "index.html")});
    run_program({"preview", catalog(), "--limit", "2", "--to", planted("tiles", "tiles", true)});
    EXPECT_TRUE(is_untouched());
    fs::create_symlink(outside / "new.dredge", folder_ / "dangling.dredge");
    EXPECT_NE(run_program({"scan", image_, "-c", path("dangling.dredge")}).exit_code, 0);
    EXPECT_TRUE(is_untouched());
}

TEST_F(SafeWaysTest, AFlatLayoutHasNoFolders) {
    scanned("ringing-station-drive");
    run_program({"restore", catalog(), "--kind", "picture,document", "--layout", "flat", "--to", path("out")});
    std::size_t files = 0;
    for (const auto& entry : fs::directory_iterator(folder_ / "out")) {
        EXPECT_TRUE(entry.is_regular_file()) << entry.path();
        ++files;
    }
    EXPECT_GT(files, 30U);
}

TEST_F(SafeWaysTest, VerifyingReadsWhatEarlierRunsRestored) {
    scanned("ringing-station-drive");
    const auto restore = [&](const std::string& name, std::vector<std::string> more = {}) {
        std::vector<std::string> words = {"restore", catalog(), "--name", name, "--to", path("out")};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words);
    };
    ASSERT_EQ(restore("NEST0005").exit_code, 0);
    ASSERT_EQ(restore("NEST0006").exit_code, 0);
    EXPECT_EQ(restore("NEST0005", {"--verify"}).exit_code, 0);
    const fs::path five = folder_ / "out/DCIM/100NESTS/NEST0005.JPG", six = folder_ / "out/DCIM/100NESTS/NEST0006.JPG";
    const std::string sum = test::sha256_of(five);
    for (const fs::path& file : {five, six}) {
        std::string bytes = test::read_text(file);
        bytes[1000] = static_cast<char>(bytes[1000] + 1);
        test::write_text(file, bytes);
    }
    EXPECT_EQ(restore("NEST0005").exit_code, 0) << "of the same size: not looked at";
    const Ran found = restore("NEST0005", {"--verify"});
    EXPECT_EQ(found.exit_code, 1);
    EXPECT_THAT(found.err,
                AllOf(HasSubstr("NEST0005.JPG was not what was restored"), HasSubstr("NEST0006.JPG was not")));
    EXPECT_EQ(test::sha256_of(five), sum) << "it is selected, and so restored again";
    EXPECT_EQ(restore("NEST0006", {"--verify"}).exit_code, 1);
    EXPECT_EQ(restore("NEST000?.JPG", {"--verify", "--prospect", "90.."}).exit_code, 0);
}

}  // namespace
}  // namespace dredger

// What somebody types who is tired: shortened, mistyped, the wrong way round. The program understands, or says in one
// line what would be right.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class TypingTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path()).string();
        ASSERT_EQ(run_program({"scan", image_, "-c", path("a")}).exit_code, 0);
        catalog_ = path("a.dredge");
    }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    Ran list(std::vector<std::string> words) const {
        words.insert(words.begin(), {"list", catalog_});
        return run_program(words);
    }
    static void expect_usage(const Ran& ran, const std::string& wrong, const std::string& right) {
        EXPECT_EQ(ran.exit_code, 2) << ran.err;
        EXPECT_THAT(ran.err, AllOf(HasSubstr("dredger: "), HasSubstr(wrong), HasSubstr(right)));
        EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
    }

    test::TempFolder folder_;
    std::string image_, catalog_;
};

TEST_F(TypingTest, TheNearestCommandOrOptionIsNamed) {
    expect_usage(run_program({"scna", image_}), "no command scna", "did you mean dredger scan?");
    expect_usage(run_program({"picks", "ad", "x.csv"}), "no command ad", "did you mean dredger picks add?");
    expect_usage(run_program({"scan", "--depp", image_}), "--depp is no option of dredger scan",
                 "did you mean --deep?");
    expect_usage(list({"--limt", "3"}), "--limt is no option", "did you mean --limit?");
    expect_usage(run_program({"fly"}), "no command fly", "survey, scan, list");
    expect_usage(run_program({}), "a command is needed", "dredger --help");
}

TEST_F(TypingTest, ValuesAreSaidToBeWrongInWords) {
    expect_usage(list({"--limit", "0"}), "--limit: 0 can't be", "a number, 1 or more");
    expect_usage(list({"--limit", "many"}), "--limit", "number");
    expect_usage(list({"--limit"}), "--limit needs a value", "list --help");
    expect_usage(run_program({"list", "--sort", "-size"}), "CATALOG is needed", "list --help");
    expect_usage(list({"--as", "xml"}), "xml is none of its values", "table, jsonl, csv");
    expect_usage(list({"--size", "5M..2M"}), "5M..2M ends before it begins", "lower end first");
    expect_usage(list({"--modified", "2026-06..2026-05"}), "ends before it begins", "lower end first");
    expect_usage(list({"--id", "3,4000"}), "there is no find 4000", "dredger list");
    expect_usage(list({"--volume", "CARD"}), "no volume CARD", "1 (RINGCARD), 2 (OFFICE), 3 (HUT)");
    for (const auto& words : std::vector<std::vector<std::string>>{
             {"--limit", "0"}, {"--limit", "x"}, {"--group", "x"}, {"--from", "-1"}, {"--depth", "5000"}})
        for (const char* library : {"TEXT", "UINT", "e+", "1797"})
            EXPECT_THAT(list(words).err, Not(HasSubstr(library)));
}

TEST_F(TypingTest, OptionsWithoutEffectAreRefused) {
    expect_usage(list({"--depth", "2"}), "--depth says nothing without --group", "add --group");
    expect_usage(list({"--extents"}), "--extents says nothing without --json", "leave --extents out");
    expect_usage(list({"--source", image_}), "--source says nothing without", "--contains");
    expect_usage(run_program({"scan", image_, "-c", path("b"), "--format", "jpeg"}), "--format", "add --deep");
    expect_usage(run_program({"scan", image_, "-c", path("b"), "--join", "off"}), "--join", "add --deep");
}

TEST_F(TypingTest, CommandsMayBeShortAndCatalogsWithoutTheirEnding) {
    EXPECT_THAT(run_program({"li", path("a")}).out, HasSubstr("PROSPECT"));
    EXPECT_THAT(run_program({"help", "restore"}).out, HasSubstr("dredger restore"));
    EXPECT_EQ(run_program({"show", path("a"), "32"}).exit_code, 0);
    EXPECT_THAT(run_program({"rep", path("a"), "--to", path("x")}).err, HasSubstr("no command rep"))
        << "repair or report";
}

TEST_F(TypingTest, ScanNamesItsCatalogAfterTheSource) {
    const Ran scan = run_program({"scan", image_}, {.before = "cd '" + folder_.path().string() + "' &&"});
    EXPECT_EQ(scan.exit_code, 0) << scan.err;
    EXPECT_THAT(scan.out, HasSubstr("Next: dredger list ringing-station-drive.dredge"));
    EXPECT_TRUE(fs::exists(folder_ / "ringing-station-drive.dredge"));
}

TEST_F(TypingTest, PlainWordsArePartsOfNamesAndFolders) {
    EXPECT_THAT(list({"--name", "permit"}).out, HasSubstr("Ringing permit 2027 (draft).pdf"));
    EXPECT_THAT(list({"--name", "permit*"}).err, HasSubstr("Nothing"));
    EXPECT_THAT(list({"--folder", "logs"}).out, AllOf(HasSubstr("Ringing logs/2026"), HasSubstr("srv/logs")));
    EXPECT_THAT(list({"--folder", "Ringing logs/2025"}).out, HasSubstr("\n1 file, "));
    EXPECT_THAT(list({"--folder", "E:\\Grant application 2027\\Figures"}).out, HasSubstr("\n2 files, "));
    EXPECT_THAT(list({"--folder", "Figures/"}).out, HasSubstr("\n2 files, "));
    EXPECT_THAT(list({"--name", "draft)"}).out, HasSubstr("\n1 file, "));
    EXPECT_THAT(list({"--name", "[draft]"}).err, HasSubstr("Nothing"));
}

TEST_F(TypingTest, AVolumeIsChosenByNumberLabelOrMedium) {
    const auto count = [&](std::vector<std::string> words) {
        words.insert(words.end(), {"--as", "jsonl"});
        const std::string out = list(words).out;
        return std::count(out.begin(), out.end(), '\n');
    };
    EXPECT_EQ(count({"--volume", "2"}), count({"--volume", "office"}));
    EXPECT_EQ(count({"--volume", "1"}) + count({"--volume", "2"}) + count({"--volume", "HUT"}), count({}));
    EXPECT_EQ(count({"--medium", "station-drive"}), count({}));
    expect_usage(list({"--medium", "elsewhere"}), "no volume lies on such a medium", "it has the volumes");
    EXPECT_EQ(count({"--modified", "10000d.."}), count({"--modified", "2000.."}));
    EXPECT_EQ(count({"--band", "gone,patchy"}), count({"--band", "gone"}) + count({"--band", "patchy"}));
}

}  // namespace
}  // namespace dredger

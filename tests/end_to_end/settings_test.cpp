// What stands in files of settings, and what `dredger config` tells of it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::Ran;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class SettingsTest : public testing::Test {
  protected:
    void SetUp() override {
        fs::create_directories(folder_ / "job");
        const fs::path image = test::unpack_to("ringing-station-drive", folder_.path());
        ASSERT_EQ(test::run_program({"scan", image.string(), "-c", path("drive.dredge")}).exit_code, 0);
    }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    void users(const std::string& text) { test::write_text(folder_ / "config.toml", text); }
    void here(const std::string& text) { test::write_text(folder_ / "job/dredger.toml", text); }
    // In a folder that may have settings of its own.
    Ran run(const std::vector<std::string>& words) {
        return test::run_program(words, {.before = "cd '" + path("job") + "'; DREDGER_CONFIG='" + path("config.toml") +
                                                   "' HOME='" + path("nobody") + "'"});
    }
    std::size_t listed(const std::vector<std::string>& more = {}) {
        std::vector<std::string> words = {"list", path("drive.dredge"), "--json"};
        words.insert(words.end(), more.begin(), more.end());
        const Ran ran = run(words);
        EXPECT_THAT(ran.exit_code, testing::AnyOf(0, 1)) << ran.err;
        return static_cast<std::size_t>(std::count(ran.out.begin(), ran.out.end(), '\n'));
    }

    test::TempFolder folder_;
};

TEST_F(SettingsTest, AnyOptionCanStandThereAndTheCommandLineGoesBefore) {
    const std::size_t all = listed(), pictures = listed({"--kind", "picture"}), mail = listed({"--kind", "mail"});
    ASSERT_GT(all, pictures);
    ASSERT_NE(pictures, mail);
    users("kind = \"picture\"\n");
    EXPECT_EQ(listed(), pictures);
    EXPECT_EQ(listed({"--kind", "mail"}), mail);
    EXPECT_EQ(listed({"--kind=mail"}), mail);
    users("kind = [\"picture\", \"mail\"]\n");
    EXPECT_EQ(listed(), pictures + mail);
    // For one command, and not for another.
    users("[show]\nextents = true\n");
    EXPECT_EQ(run({"list", path("drive.dredge")}).exit_code, 2) << "show takes no extents";
    users("[list]\nlimit = 3\n");
    EXPECT_EQ(listed(), 3U);
    EXPECT_THAT(run({"versions", path("drive.dredge"), "--json"}).exit_code, 0);
}

TEST_F(SettingsTest, TheFolderOfTheJobGoesBeforeTheUsersFileAndACommandBeforeAll) {
    users("limit = 5\n[list]\nlimit = 4\n");
    EXPECT_EQ(listed(), 4U);
    here("limit = 2\n");
    EXPECT_EQ(listed(), 2U);
    here("limit = 2\n[list]\nlimit = 1\n");
    EXPECT_EQ(listed(), 1U);
    // What others may write to says nothing, and that is said.
    fs::permissions(folder_ / "job/dredger.toml", fs::perms::others_write, fs::perm_options::add);
    EXPECT_EQ(listed(), 4U);
    EXPECT_THAT(run({"list", path("drive.dredge")}).err, HasSubstr("dredger.toml is not used: everybody may write"));
}

TEST_F(SettingsTest, FlagsAreOnOrOffAndOptionsThatRuleThemOutGoBefore) {
    users("verbose = true\n");
    EXPECT_THAT(run({"list", path("drive.dredge")}).err, HasSubstr("dredger list"));
    EXPECT_THAT(run({"list", path("drive.dredge"), "-q"}).err, Not(HasSubstr("dredger list")));
    EXPECT_THAT(run({"list", path("drive.dredge"), "--verbose=false"}).err, Not(HasSubstr("dredger list")));
    here("verbose = false\n");
    EXPECT_THAT(run({"list", path("drive.dredge")}).err, Not(HasSubstr("dredger list")));
    here("utc = true\n");
    EXPECT_EQ(run({"list", path("drive.dredge"), "--zone", "Nowhere/Land"}).exit_code, 2);
}

TEST_F(SettingsTest, WhatIsNeededCanStandThere) {
    EXPECT_EQ(run({"restore", path("drive.dredge"), "--limit", "1"}).exit_code, 2);
    users("[restore]\nto = \"" + path("rescue") + "\"\n");
    EXPECT_EQ(run({"restore", path("drive.dredge"), "--limit", "1", "--band", "sound"}).exit_code, 0);
    EXPECT_TRUE(fs::exists(folder_ / "rescue/manifest.csv"));
    users("[report]\nshop = \"Skerry <Data> Rescue\"\n");
    EXPECT_EQ(run({"report", path("drive.dredge"), "--to", path("report")}).exit_code, 0);
    EXPECT_THAT(test::read_text(folder_ / "report/report.html"), HasSubstr("Skerry &lt;Data&gt; Rescue"));
}

TEST_F(SettingsTest, ZonesAreTheStationsClock) {
    if (!fs::exists("/usr/share/zoneinfo/Asia/Tokyo")) GTEST_SKIP() << "tzdata is not installed";
    const auto modified = [&](const std::vector<std::string>& more) {
        std::vector<std::string> words = {"show", path("drive.dredge"), "91"};
        words.insert(words.end(), more.begin(), more.end());
        return run(words).out;
    };
    users("zone = \"Asia/Tokyo\"\n");
    const std::string tokyo = modified({});
    EXPECT_EQ(tokyo, modified({"--zone", "Asia/Tokyo"}));
    EXPECT_NE(tokyo, modified({"--zone", "UTC"}));
    EXPECT_EQ(modified({"--utc"}), modified({"--zone", "UTC"})) << "the command line rules out what the file says";
}

TEST_F(SettingsTest, WhatIsWrongIsToldWithItsLine) {
    const std::pair<const char*, const char*> wrong[] = {
        {"\nkin = \"picture\"", "nothing is known of kin"},
        {"\nkind = \"birds\"", "kind: birds is none of picture"},
        {"\n[lst]", "there is no command lst"},
        {"\nlimit = \"many\"", "limit: many is no number"},
        {"\nlimit = 0", "limit: "},
        {"\nquiet = 1", "quiet: it is true or false"},
        {"\n[picks]\nadd = 1", "picks takes no add"},
        {"\nlimit = [1, 2]", "limit: it takes one value"},
        {"\nonto-same-drive = true", "has to be said each time"},
        {"\nkind = \"picture", ""},
    };
    for (const auto& [text, what] : wrong) {
        users(text);
        const Ran ran = run({"list", path("drive.dredge")});
        EXPECT_EQ(ran.exit_code, 2) << text;
        EXPECT_THAT(ran.err, AllOf(HasSubstr(what), HasSubstr("config.toml, line "))) << text;
        EXPECT_EQ(run({"list", "--help"}).exit_code, 0) << "help is to be had in any case";
    }
    users("size = \"huge\"\n");
    EXPECT_THAT(run({"list", path("drive.dredge")}).err, HasSubstr("dredger config shows them"));
}

TEST_F(SettingsTest, ConfigShowsWhatHoldsAndWhereItStands) {
    users("color = \"always\"\nlimit = 7\n");
    here("color = \"never\"\n\n[picks.add]\nprospect = \"60..\"\n");
    const Ran told = run({"config"});
    EXPECT_EQ(told.exit_code, 0);
    EXPECT_THAT(told.out, AllOf(HasSubstr("config.toml: read"), HasSubstr("dredger.toml: read"),
                                HasSubstr("config.toml, line 1 (another goes before it)"), HasSubstr("picks add"),
                                HasSubstr("dredger.toml, line 4")));
    const json all = json::parse(run({"config", "--json"}).out);
    ASSERT_EQ(all["settings"].size(), 4U);
    EXPECT_EQ(all["settings"][0]["option"], "color");
    EXPECT_FALSE(all["settings"][0]["holds"]);
    EXPECT_TRUE(all["settings"][1]["holds"]);
    EXPECT_EQ(all["settings"][3]["command"], "picks add");
    EXPECT_EQ(all["environment"]["DREDGER_CONFIG"], path("config.toml"));
}

// What it prints as a file to begin with is one, with every line of it said.
TEST_F(SettingsTest, EveryKeyThatItNamesCanStandThere) {
    std::istringstream lines(run({"config", "--all"}).out);
    std::string said, line;
    std::size_t keys = 0;
    while (std::getline(lines, line)) {
        const bool is_key = line.starts_with('#') && line.size() > 1 && line[1] != ' ';
        // Texts that must be right in themselves are left as they are.
        // One of the two that rule each other out.
        if (line == "#quiet = true") continue;
        if (!is_key || line.ends_with("\"\"") || line.ends_with("[\"\"]")) continue;
        said += line.substr(1) + "\n";
        ++keys;
    }
    EXPECT_GT(keys, 80U);
    users(said);
    const Ran told = run({"config"});
    EXPECT_EQ(told.exit_code, 0) << told.err;
    EXPECT_THAT(said, AllOf(HasSubstr("[restore]"), HasSubstr("[picks.add]"), HasSubstr("by-prospect = true")));
    EXPECT_THAT(said, Not(HasSubstr("onto-same-drive")));
}

}  // namespace
}  // namespace dredger

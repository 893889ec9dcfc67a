// What commands print for programs: one document each, with fields that docs/json.md names.
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>
#include <set>

#include "support/support.h"

namespace dredger {
namespace {

using json = nlohmann::json;
using test::Ran;
using test::run_program;
using testing::HasSubstr;
using testing::IsSubsetOf;

// Names of fields, but for those of `facts`, which are the file system's own.
void collect(const json& value, std::set<std::string>& names) {
    if (!value.is_structured()) return;
    for (const auto& [name, within] : value.items()) {
        if (value.is_object()) names.insert(name);
        if (name != "facts") collect(within, names);
    }
}

class JsonTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path()).string();
        ASSERT_EQ(run_program({"scan", image_, "-c", catalog()}).exit_code, 0);
    }
    std::string catalog() const { return (folder_ / "a.dredge").string(); }
    std::string to(const std::string& name) const { return (folder_ / name).string(); }
    // Nothing but the document, whose fields are all documented.
    static json document(const std::vector<std::string>& words, int exit_code = 0) {
        const Ran ran = run_program(words);
        EXPECT_EQ(ran.exit_code, exit_code) << words[0] << ": " << ran.err;
        const json document = json::parse(ran.out, nullptr, false);
        EXPECT_TRUE(document.is_object()) << words[0] << ": " << ran.out;
        const std::string docs = test::read_text(std::filesystem::path(DREDGER_DOCS) / "json.md");
        std::set<std::string> names;
        collect(document, names);
        for (const std::string& name : names) EXPECT_THAT(docs, HasSubstr("`" + name + "`")) << words[0];
        return document;
    }

    test::TempFolder folder_;
    std::string image_;
};

TEST_F(JsonTest, SurveyTellsVolumesAndWhatIsNext) {
    const json survey = document({"survey", image_, "--json"});
    ASSERT_EQ(survey["volumes"].size(), 3U);
    EXPECT_EQ(survey["volumes"][1]["label"], "OFFICE");
    EXPECT_EQ(survey["volumes"][1]["filesystem"], "NTFS");
    EXPECT_EQ(survey["size"], 104'857'600);
    bool tells_of_the_bin = false;
    for (const json& finding : survey["findings"])
        tells_of_the_bin =
            tells_of_the_bin || (finding["what"].get<std::string>().starts_with("In the bin of volume 2") &&
                                 finding["next"].get<std::string>().ends_with("--state trashed"));
    EXPECT_TRUE(tells_of_the_bin);
    EXPECT_TRUE(document({"survey", "--json"}).contains("drives"));
}

TEST_F(JsonTest, ScanTellsWhatItCameTo) {
    const json scan = document({"scan", image_, "-c", to("b.dredge"), "--json"});
    EXPECT_EQ(scan["media"][0]["volumes"][0]["deleted"], 33);
    EXPECT_EQ(scan["finds"]["files"], 52);
    EXPECT_EQ(scan["finds"]["sound"], 48);
    EXPECT_EQ(document({"scan", image_, "-c", to("b.dredge"), "--json"})["media"][0]["volumes"][0]["done_before"],
              true);
    document({"scan", "--deep", image_, "-c", to("b.dredge"), "--json"});
}

TEST_F(JsonTest, ShowTellsAllOfOneFind) {
    const json find = document({"show", catalog(), "32", "--json"});
    EXPECT_EQ(find["path"], "DCIM/100NESTS/NEST0002.JPG");
    EXPECT_EQ(find["held_by"][0]["state"], "live");
    EXPECT_THAT(find["zoneless"], testing::Contains("modified"));
    EXPECT_FALSE(find["extents"].empty());
    // What stands within a record is held by nobody else, not even by the file of the records.
    EXPECT_TRUE(document({"show", catalog(), "102", "--json"})["held_by"].empty());
    EXPECT_THAT(run_program({"show", catalog(), "102"}).out,
                testing::AllOf(HasSubstr("the record itself"), testing::Not(HasSubstr("$MFT"))));
}

// The image is a copy of which a part could not be had, by the map beside it.
TEST_F(JsonTest, WhatCannotBeReadIsDrawnAndTold) {
    const json whole = document({"show", catalog(), "33", "--json"});
    const std::uint64_t at = whole["extents"][0][0].get<std::uint64_t>() + 8192, size = 100 << 20;
    test::write_text(
        image_ + ".areas.json",
        json{{"about", "what a copy made by dredger holds of its medium"},
             {"size", size},
             {"areas",
              {{0, at, "held", 1, 0}, {at, 4096, "refused", 5, 0}, {at + 4096, size - at - 4096, "held", 1, 0}}}}
            .dump());
    ASSERT_EQ(run_program({"scan", image_, "-c", to("worn.dredge"), "-q"}).exit_code, 1);
    const json worn = document({"show", to("worn.dredge"), "33", "--json"});
    EXPECT_EQ(worn["unreadable"], json({{at, 4096}}));
    EXPECT_LT(worn["prospect"], whole["prospect"]);
    const std::string shown = run_program({"show", to("worn.dredge"), "33"}).out;
    EXPECT_THAT(shown, testing::AllOf(HasSubstr("▒ can't be read"), HasSubstr("4.0 KiB of it can't be read")));
    run_program({"report", to("worn.dredge"), "--to", to("report")});
    EXPECT_THAT(test::read_text(folder_ / "report/report.html"), HasSubstr("4,096 bytes in one area can't be read"));
}

TEST_F(JsonTest, PicksRestoreAndPreviewTellTheirs) {
    ASSERT_EQ(run_program({"picks", "add", to("p.csv"), catalog(), "--folder", "DCIM"}).exit_code, 0);
    const json picks = document({"picks", "show", to("p.csv"), "--json"});
    EXPECT_EQ(picks["picks"].size(), 4U);
    EXPECT_EQ(picks["picks"][0]["found"], true);
    std::filesystem::rename(catalog(), to("elsewhere"));
    EXPECT_EQ(document({"picks", "show", to("p.csv"), "--json"})["picks"][0]["catalog_found"], false);
    std::filesystem::rename(to("elsewhere"), catalog());

    const json restore = document({"restore", catalog(), "--folder", "DCIM", "--to", to("out"), "--json"}, 1);
    EXPECT_EQ(restore["whole"], 2);
    EXPECT_EQ(restore["doubtful"], 1);
    EXPECT_EQ(restore["gone_left_out"], 1);
    const json preview = document({"preview", catalog(), "--folder", "DCIM", "--to", to("look"), "--json"});
    EXPECT_EQ(preview["files"], 4);
    EXPECT_EQ(preview["interrupted"], false);
}

// The same words select in every command.
TEST_F(JsonTest, EveryCommandTakesTheWholeSelection) {
    const std::vector<std::string> words = {"--contains", "ring;date", "--kind",  "document",
                                            "--sort",     "-size",     "--limit", "2"};
    const auto with = [&](std::vector<std::string> command) {
        command.insert(command.end(), words.begin(), words.end());
        return run_program(command);
    };
    const Ran list = with({"list", catalog(), "--json"});
    std::vector<std::string> paths;
    std::istringstream lines(list.out);
    for (std::string line; std::getline(lines, line);) {
        const json find = json::parse(line);
        paths.push_back(find["path"]);
        EXPECT_THAT(find["passage"]["line"].get<std::string>(), HasSubstr("ring;date"));
        EXPECT_EQ(find["passage"]["where"], "line 1");
    }
    ASSERT_EQ(paths.size(), 2U);
    EXPECT_EQ(with({"restore", catalog(), "--to", to("out")}).exit_code, 0);
    for (const std::string& path : paths)
        EXPECT_TRUE(std::filesystem::exists(folder_ / "out" / path)) << "restored where list shows it: " << path;
    EXPECT_THAT(with({"picks", "add", to("p.csv"), catalog()}).out, HasSubstr("2 finds added"));
    EXPECT_THAT(with({"preview", catalog(), "--to", to("look")}).out, HasSubstr("2 finds looked at"));
    EXPECT_EQ(with({"report", catalog(), "--to", to("report")}).exit_code, 0);
    EXPECT_THAT(test::read_text(folder_ / "report/report.html"), HasSubstr("<p>2 files, "));
    EXPECT_EQ(run_program({"restore", catalog(), "--sort", "size", "--to", to("x")}).exit_code, 2)
        << "an order that shows nowhere";
}

TEST_F(JsonTest, FilesOfSeveralVolumesMeetUnlessFoldersAreAskedFor) {
    for (const char* layout : {"tree", "kind", "date", "flat"}) {
        const std::string plain = to(layout), apart = to(std::string(layout) + " apart");
        run_program({"restore", catalog(), "--id", "33,91", "--layout", layout, "--to", plain});
        run_program({"restore", catalog(), "--id", "33,91", "--layout", layout, "--volume-folders", "--to", apart});
        EXPECT_FALSE(std::filesystem::exists(plain + "/volume 1 RINGCARD")) << layout;
        EXPECT_TRUE(std::filesystem::exists(apart + "/volume 1 RINGCARD")) << layout;
        EXPECT_TRUE(std::filesystem::exists(apart + "/volume 2 OFFICE")) << layout;
    }
}

}  // namespace
}  // namespace dredger

// One pick list over several media of different sorts, restored in one go.
#include <fstream>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sys/stat.h>

#include "base/csv.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using test::TempFolder;
using testing::AllOf;
using testing::HasSubstr;
using testing::IsSupersetOf;
using testing::Not;

using Row = std::map<std::string, std::string>;

class PicksTest : public testing::Test {
  protected:
    // A card, an NTFS in a VHDX and an ext4 in a QCOW2, each in a catalog of its own.
    void scan_three() {
        test::unpack_to("fat16-card", folder_.path());
        test::unpack_disk_images(folder_.path(), {"ntfs-small.vhdx", "ext4-home.qcow2"});
        for (const auto& [image, catalog] : media())
            ASSERT_EQ(run_program({"scan", path(image), "-c", path(catalog)}).exit_code, 0) << image;
    }
    static std::vector<std::pair<std::string, std::string>> media() {
        return {{"fat16-card.img", "card.dredge"},
                {"ntfs-small.vhdx", "office.dredge"},
                {"ext4-home.qcow2", "home.dredge"}};
    }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    std::vector<Row> manifest(const std::string& out) const {
        return parse_csv(test::read_text(folder_ / out / "manifest.csv")).value();
    }
    // Every deleted file of the three, by catalog and path.
    static std::map<std::pair<std::string, std::string>, std::string> truth() {
        std::map<std::pair<std::string, std::string>, std::string> sums;
        for (const auto& [fixture, catalog] : std::vector<std::pair<std::string, std::string>>{
                 {"fat16-card", "card.dredge"}, {"ntfs-small", "office.dredge"}, {"ext4-home", "home.dredge"}}) {
            const auto list = test::truth_of(fixture);
            for (const auto& file : list["files"])
                if (!file["directory"]) sums[{catalog, file["path"]}] = file["sha256"];
        }
        return sums;
    }

    TempFolder folder_;
};

TEST_F(PicksTest, OneListBringsBackFilesOfThreeMediaAtOnce) {
    scan_three();
    for (const auto& [image, catalog] : media()) {
        const Ran added =
            run_program({"picks", "add", path("nests.csv"), path(catalog), "--prospect", "88..", "--state", "deleted"});
        EXPECT_EQ(added.exit_code, 0) << added.err;
    }
    EXPECT_THAT(run_program({"picks", "check", path("nests.csv")}).out,
                AllOf(HasSubstr("every line names a find"), HasSubstr("is attached"), HasSubstr("3 catalogs")));
    EXPECT_THAT(run_program({"picks", "show", path("nests.csv")}).out,
                AllOf(HasSubstr("card.dredge"), HasSubstr("office.dredge"), HasSubstr("home.dredge")));

    const Ran ran =
        run_program({"restore", "--picks", path("nests.csv"), "--to", path("out"), "--verify", "--volume-folders"});
    EXPECT_EQ(ran.exit_code, 0) << ran.err << ran.out;
    const auto sums = truth();
    std::map<std::string, std::size_t> compared;
    for (Row row : manifest("out")) {
        if (row["sha256"].empty()) continue;
        const auto known = sums.find({row["catalog"], row["original_path"]});
        if (known == sums.end()) continue;
        EXPECT_EQ(row["sha256"], known->second) << row["original_path"];
        EXPECT_EQ(test::sha256_of(folder_ / "out" / row["restored_path"]), known->second);
        EXPECT_THAT(row["restored_path"], testing::StartsWith(fs::path(row["catalog"]).stem().string() + "/"));
        ++compared[row["catalog"]];
    }
    for (const auto& [image, catalog] : media()) EXPECT_GT(compared[catalog], 5U) << catalog;
}

TEST_F(PicksTest, NewNamesAndCollisionsOfEachSort) {
    scan_three();
    ASSERT_EQ(run_program({"picks", "add", path("nests.csv"), path("card.dredge"), path("office.dredge"),
                           path("home.dredge"), "--state", "deleted", "--size", "1.."})
                  .exit_code,
              0);
    const auto sums = truth();
    const auto restored = [&](const std::string& out, const std::vector<std::string>& words) {
        std::vector<std::string> all = {"restore", "--picks",  path("nests.csv"),        "--to", path(out), "--layout",
                                        "flat",    "--rename", "{kind}/{format|ext}.bin"};
        all.insert(all.end(), words.begin(), words.end());
        const Ran ran = run_program(all);
        EXPECT_THAT(ran.exit_code, testing::AnyOf(0, 1)) << ran.err;
        std::vector<Row> rows;
        for (Row row : manifest(out))
            if (!row["sha256"].empty()) {
                EXPECT_EQ(test::sha256_of(folder_ / out / row["restored_path"]), row["sha256"]);
                const auto known = sums.find({row["catalog"], row["original_path"]});
                if (row["outcome"] == "whole" && known != sums.end()) {
                    EXPECT_EQ(row["sha256"], known->second) << row["original_path"];
                }
                rows.push_back(row);
            }
        // Whatever happened to the others, no two share a place.
        std::set<std::string> places;
        for (Row& row : rows) places.insert(row["restored_path"]);
        EXPECT_EQ(places.size(), rows.size()) << out;
        const bool has_sums = !test::read_text(folder_ / out / "SHA256SUMS").empty();
        EXPECT_EQ(has_sums, !rows.empty());
        EXPECT_TRUE(!has_sums || std::system(("cd " + path(out) + " && sha256sum --quiet -c SHA256SUMS").c_str()) == 0);
        return rows;
    };
    const auto numbered = restored("numbered", {});
    const auto skipped = restored("skipped", {"--if-exists", "skip"});
    const auto newer = restored("newer", {"--if-exists", "newer"});
    const auto best = restored("best", {"--if-exists", "keep-best"});
    EXPECT_GT(numbered.size(), 20U);
    EXPECT_LT(skipped.size(), numbered.size() / 2);
    EXPECT_EQ(newer.size(), skipped.size());
    EXPECT_EQ(best.size(), skipped.size());

    // The newest and the best of those that wanted each place.
    std::map<std::string, std::string> newest;
    std::map<std::string, int> highest;
    const auto place_of = [](Row row) {
        std::string place = row["restored_path"];
        if (const auto open = place.find(" ("); open != place.npos) place.erase(open, place.find(')') + 1 - open);
        return place.substr(place.find('/') + 1);
    };
    for (Row row : numbered) {
        auto& time = newest[row["catalog"] + place_of(row)];
        time = std::max(time, row["modified"]);
        auto& value = highest[row["catalog"] + place_of(row)];
        value = std::max(value, std::stoi(row["prospect"]));
    }
    for (Row row : newer) EXPECT_EQ(row["modified"], newest[row["catalog"] + place_of(row)]) << row["restored_path"];
    for (Row row : best)
        if (row["outcome"] == "whole") {
            EXPECT_GE(std::stoi(row["prospect"]) + 12, highest[row["catalog"] + place_of(row)]);
        }

    // What stood there before is replaced when asked for, and only then.
    test::write_text(folder_ / "skipped" / skipped.front().at("restored_path"), "mine");
    fs::remove(folder_ / "skipped/manifest.csv");
    fs::remove(folder_ / "skipped/SHA256SUMS");
    EXPECT_THAT(restored("skipped", {"--if-exists", "skip"}), testing::IsEmpty());
    EXPECT_FALSE(restored("skipped", {"--if-exists", "replace"}).empty());
    EXPECT_NE(test::read_text(folder_ / "skipped" / skipped.front().at("restored_path")), "mine");
}

TEST_F(PicksTest, AMediumThatIsNotAttachedCostsOnlyItsOwn) {
    scan_three();
    ASSERT_EQ(
        run_program({"picks", "add", path("nests.csv"), path("card.dredge"), path("home.dredge"), "--kind", "picture"})
            .exit_code,
        0);
    fs::rename(folder_ / "fat16-card.img", folder_ / "away.img");
    EXPECT_THAT(run_program({"picks", "check", path("nests.csv")}).out, HasSubstr("is not attached"));
    const Ran some = run_program({"restore", "--picks", path("nests.csv"), "--to", path("out")});
    EXPECT_EQ(some.exit_code, 1);
    EXPECT_THAT(some.err, AllOf(HasSubstr("left out: card.dredge"), HasSubstr("no such file")));
    std::size_t failed = 0, whole = 0;
    for (Row row : manifest("out")) {
        failed += row["catalog"] == "card.dredge" && row["outcome"] == "failed" ? 1 : 0;
        whole += row["catalog"] == "home.dredge" && row["outcome"] == "whole" ? 1 : 0;
    }
    EXPECT_GT(failed, 2U);
    EXPECT_GT(whole, 2U);
    // Attached again, elsewhere, the same command does the rest.
    const Ran rest = run_program(
        {"restore", "--picks", path("nests.csv"), "--to", path("out"), "--source", "card.dredge=" + path("away.img")});
    EXPECT_THAT(rest.out, HasSubstr("already"));
    EXPECT_THAT(rest.err, Not(HasSubstr("left out")));
    for (Row row : manifest("out")) EXPECT_NE(row["outcome"], "failed") << row["original_path"];
}

TEST_F(PicksTest, ListsFromASpreadsheetAreTakenAsTheyCome) {
    scan_three();
    const Ran listed = run_program(
        {"list", path("card.dredge"), "--kind", "picture", "--prospect", "88..", "--as", "jsonl", "--limit", "2"});
    const auto first = nlohmann::json::parse(listed.out.substr(0, listed.out.find('\n')));
    const std::string id = std::to_string(first["id"].get<int>());
    test::write_text(folder_ / "edited.csv",
                     "\xEF\xBB\xBF"
                     "remark;id;path;catalog\r\n"
                     "\"the owner's\r\nfavourite\";" +
                         id + ";" + first["path"].get<std::string>() +
                         ";card.dredge\r\n"
                         ";;;\r\n"
                         "no number;seven;;card.dredge\r\n"
                         "no such find;99999;;card.dredge\r\n"
                         "no such catalog;1;;boat.dredge\r\n");
    const Ran check = run_program({"picks", "check", path("edited.csv")});
    EXPECT_EQ(check.exit_code, 1);
    EXPECT_THAT(check.out, AllOf(HasSubstr("line 4: \"\" is no ID"), HasSubstr("line 5: \"seven\" is no ID"),
                                 HasSubstr("line 6: card.dredge has no candidate 99999"),
                                 HasSubstr("line 7: the catalog boat.dredge")));
    const Ran ran = run_program({"restore", "--picks", path("edited.csv"), "--to", path("out")});
    EXPECT_EQ(ran.exit_code, 1);
    EXPECT_THAT(ran.err, AllOf(HasSubstr("line 5"), HasSubstr("line 6"), HasSubstr("line 7")));
    EXPECT_THAT(ran.out, HasSubstr("1 file and 0 folders selected: 1 whole"));
}

TEST_F(PicksTest, AreTakenOutAgain) {
    scan_three();
    ASSERT_EQ(run_program({"picks", "add", path("n.csv"), path("card.dredge"), "--kind", "picture"}).exit_code, 0);
    auto picked = parse_csv(test::read_text(folder_ / "n.csv")).value();
    const Ran again = run_program({"picks", "add", path("n.csv"), path("card.dredge"), "--kind", "picture"});
    EXPECT_THAT(again.out, HasSubstr("0 finds added"));
    const Ran out = run_program({"picks", "remove", path("n.csv"), path("card.dredge"), "--id", picked.front()["id"]});
    EXPECT_EQ(out.exit_code, 0);
    const auto after = parse_csv(test::read_text(folder_ / "n.csv")).value().size();
    EXPECT_EQ(after + 1, picked.size());
}

TEST_F(PicksTest, OfNothingAreToldAndNotWritten) {
    test::unpack_to("fat16-card", folder_.path());
    ASSERT_EQ(run_program({"scan", path("fat16-card.img"), "-c", path("card.dredge")}).exit_code, 0);
    const Ran none = run_program({"picks", "add", path("n.csv"), path("card.dredge"), "--id", "99999"});
    EXPECT_EQ(none.exit_code, 2);
    EXPECT_THAT(none.err, HasSubstr("there is no find 99999"));
    const Ran all = run_program({"picks", "add", path("n.csv"), path("card.dredge")});
    EXPECT_EQ(all.exit_code, 2);
    EXPECT_THAT(all.err, HasSubstr("nothing says which finds to pick"));
    EXPECT_FALSE(fs::exists(folder_ / "n.csv"));

    test::write_text(folder_ / "empty.csv", "catalog,id\r\n");
    const Ran empty = run_program({"restore", "--picks", path("empty.csv"), "--to", path("out")});
    EXPECT_EQ(empty.exit_code, 2);
    EXPECT_THAT(empty.err, AllOf(HasSubstr("nothing is picked"), HasSubstr("dredger picks add")));
    EXPECT_FALSE(fs::exists(folder_ / "out"));

    const Ran after =
        run_program({"restore", path("card.dredge"), "--to", path("out"), "--after", path("nowhere"), "--id", "1"});
    EXPECT_EQ(after.exit_code, 2);
    EXPECT_THAT(after.err, HasSubstr("no restore has written here"));
    EXPECT_FALSE(fs::exists(folder_ / "out"));
}

TEST_F(PicksTest, TheSumsThatAreThereAreTold) {
    test::unpack_to("fat16-card", folder_.path());
    ASSERT_EQ(run_program({"scan", path("fat16-card.img"), "-c", path("card.dredge")}).exit_code, 0);
    const auto told = [&](const char* sums) {
        return run_program({"restore", path("card.dredge"), "--id", "1-20", "--sums", sums, "--to", path("out")}).out;
    };
    const auto quick = HasSubstr("xxh128sum -c XXH128SUMS"), usual = HasSubstr("sha256sum -c SHA256SUMS");
    EXPECT_THAT(told("xxh128"), AllOf(quick, Not(usual)));
    EXPECT_THAT(told("sha256"), AllOf(HasSubstr("already"), quick, Not(usual)));
    fs::remove_all(folder_ / "out");
    EXPECT_THAT(told("sha256"), AllOf(usual, Not(quick)));
}

// Killed at many points, and told to go on: the same bytes under the same names as in one run.
TEST_F(PicksTest, AKilledRestoreGoesOnToTheSameBytes) {
    scan_three();
    const std::vector<std::string> words = {"restore", path("home.dredge"), path("card.dredge"),
                                            "--state", "deleted,live",      "--to"};
    const auto to = [&](const std::string& out) {
        auto all = words;
        all.push_back(path(out));
        return all;
    };
    ASSERT_THAT(run_program(to("whole")).exit_code, testing::AnyOf(0, 1));
    const auto contents = [&](const std::string& out) {
        std::map<std::string, std::string> files;
        for (const auto& entry : fs::recursive_directory_iterator(folder_ / out)) {
            const std::string name = entry.path().lexically_relative(folder_ / out).string();
            if (entry.is_regular_file() && name != "restore.log" && name != "manifest.csv")
                files[name] = test::sha256_of(entry.path());
        }
        return files;
    };
    const auto expected = contents("whole");
    int killed = 0;
    for (int after = 2; after < 90; after += 4) {
        const std::string out = "out" + std::to_string(after);
        killed += run_program(to(out), {"", SIGKILL, after}).exit_code == 137 ? 1 : 0;
        run_program(to(out), {"", SIGKILL, after / 2});
        ASSERT_THAT(run_program(to(out)).exit_code, testing::AnyOf(0, 1));
        EXPECT_EQ(contents(out), expected) << "after " << after;
        EXPECT_EQ(manifest(out).size(), manifest("whole").size());
        fs::remove_all(folder_ / out);
    }
    EXPECT_GT(killed, 5);
}

}  // namespace
}  // namespace dredger

// Drives the built program over what came back broken.
#include <gmock/gmock.h>
#include <nlohmann/json.hpp>

#include "base/csv.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Ran;
using test::run_program;
using testing::HasSubstr;

class RepairProgramTest : public testing::Test {
  protected:
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    std::vector<std::map<std::string, std::string>> table(const std::string& folder) const {
        return parse_csv(test::read_text(folder_ / folder / "repairs.csv")).value();
    }

    test::TempFolder folder_;
};

TEST_F(RepairProgramTest, FindsAreReadFromTheirMedium) {
    const std::string image = test::unpack_to("ringing-station-drive", folder_.path()).string();
    const std::string before = test::sha256_of(image);
    ASSERT_EQ(run_program({"scan", image, "-c", path("a.dredge")}).exit_code, 0);
    const Ran ran =
        run_program({"repair", path("a.dredge"), "--kind", "picture", "--prospect", "..90", "--to", path("out")});
    EXPECT_EQ(ran.exit_code, 1) << ran.err;  // some of it is overwritten for good
    const auto rows = table("out");
    ASSERT_FALSE(rows.empty());
    for (const auto& row : rows) {
        EXPECT_THAT(row.at("file"), HasSubstr("a.dredge:"));
        if (row.at("result").empty()) continue;
        EXPECT_EQ(test::sha256_of(folder_ / "out" / row.at("result")), row.at("sha256"));
    }
    EXPECT_EQ(test::sha256_of(image), before);
}

TEST_F(RepairProgramTest, NothingOfWhatLiesOnAFindNowIsPassedOffAsIts) {
    const std::string image = test::unpack_to("ringing-station-drive", folder_.path()).string();
    ASSERT_EQ(run_program({"scan", image, "-c", path("a.dredge")}).exit_code, 0);
    // Newer photos lie on all of it, and each of them could be mended.
    const Ran found = run_program({"list", path("a.dredge"), "--prospect", "..0", "--format", "jpeg", "--as", "jsonl"});
    ASSERT_FALSE(found.out.empty());
    const int id = nlohmann::json::parse(found.out.substr(0, found.out.find('\n')))["id"];
    const Ran ran = run_program({"repair", path("a.dredge"), "--id", std::to_string(id), "--to", path("out")});
    EXPECT_EQ(ran.exit_code, 1) << ran.err;
    EXPECT_THAT(ran.out, HasSubstr("nothing of it is its own any more"));
    EXPECT_EQ(table("out").at(0).at("result"), "");
}

TEST_F(RepairProgramTest, TheManifestOfARestoreTellsOfTheRepair) {
    const std::string image = test::unpack_to("ringing-station-drive", folder_.path()).string();
    ASSERT_EQ(run_program({"scan", image, "-c", path("a.dredge")}).exit_code, 0);
    const std::vector<std::string> selection = {path("a.dredge"), "--format", "jpeg",     "--prospect",
                                                "90..",           "--to",     path("out")};
    std::vector<std::string> restore = {"restore"}, repair = {"repair"};
    restore.insert(restore.end(), selection.begin(), selection.end());
    repair.insert(repair.end(), selection.begin(), selection.end());
    ASSERT_EQ(run_program(restore).exit_code, 0);
    ASSERT_EQ(run_program(repair).exit_code, 0);
    const auto rows = parse_csv(test::read_text(folder_ / "out/manifest.csv")).value();
    ASSERT_FALSE(rows.empty());
    for (const auto& row : rows) EXPECT_THAT(row.at("facts"), HasSubstr("repaired as ")) << row.at("restored_path");
    // Nothing of the restore itself is touched.
    const Ran again = run_program(restore);
    EXPECT_EQ(again.exit_code, 0) << again.err;
    EXPECT_THAT(again.out, HasSubstr("already"));
}

TEST_F(RepairProgramTest, TellsInOneLineWhatIsWrong) {
    EXPECT_EQ(run_program({"repair", path("none.zip"), "--to", path("out")}).exit_code, 3);
    test::write_text(folder_ / "notes.zip", "terns");
    const Ran beside = run_program({"repair", path("notes.zip"), "--to", folder_.path().string()});
    EXPECT_EQ(beside.exit_code, 4);
    EXPECT_THAT(beside.err, HasSubstr("results would lie among the damaged files"));
    const Ran narrowed = run_program({"repair", path("notes.zip"), "--kind", "picture", "--to", path("out")});
    EXPECT_EQ(narrowed.exit_code, 2);
    const Ran beyond = run_program({"repair", path("notes.zip"), "--to", path("out"), "--json"});
    EXPECT_EQ(beyond.exit_code, 1);
    EXPECT_EQ(nlohmann::json::parse(beyond.out)["outcome"], "beyond");
}

TEST_F(RepairProgramTest, AFolderWithNothingToRepairSaysSo) {
    fs::create_directories(folder_ / "in");
    test::write_text(folder_ / "in" / "notes.txt", "terns");
    const Ran ran = run_program({"repair", path("in"), "--to", path("out")});
    EXPECT_EQ(ran.exit_code, 0) << ran.err;
    EXPECT_THAT(ran.out, HasSubstr("Nothing here is of a format that can be repaired"));
}

}  // namespace
}  // namespace dredger

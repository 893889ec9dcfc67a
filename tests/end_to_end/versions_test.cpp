// The lives of documents, as the program tells and restores them.
#include <cstring>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sstream>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using test::run_program;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class VersionsTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("hut-desk", folder_.path()).string();
        scan_ = run_program({"scan", image_, "-c", catalog()});
        ASSERT_EQ(scan_.exit_code, 0) << scan_.err;
    }
    std::string path(const std::string& name) const { return (folder_ / name).string(); }
    std::string catalog() const { return path("desk.dredge"); }
    std::vector<json> lines(std::vector<std::string> words) const {
        std::vector<json> list;
        std::istringstream out(run_program(words).out);
        for (std::string line; std::getline(out, line);) list.push_back(json::parse(line));
        return list;
    }

    test::TempFolder folder_;
    const json truth_ = test::truth_of("hut-desk");
    std::string image_;
    test::Ran scan_;
};

TEST_F(VersionsTest, EveryCopyIsToldWithItsDocument) {
    EXPECT_THAT(scan_.out, HasSubstr("earlier states of 6 documents stand here"));
    std::map<std::string, json> told;
    for (const json& row : lines({"list", catalog(), "--state", "live,deleted", "--as", "jsonl"}))
        told[row["path"].get<std::string>()] = row;
    std::size_t copies = 0;
    for (const auto& file : truth_["files"]) {
        const json& row = told[file["path"].get<std::string>()];
        if (file.contains("safety_copy_of")) {
            ++copies;
            EXPECT_EQ(row["of"], file["safety_copy_of"]) << file["path"];
            EXPECT_FALSE(row["role"].is_null());
        } else if (!row.is_null()) {
            EXPECT_TRUE(row["role"].is_null()) << file["path"];
        }
    }
    EXPECT_EQ(copies, 10U);
    EXPECT_EQ(told["Station backup 2026-05-01/Logs/May.txt"]["as_of"], "2026-05-01T00:00:00");
}

TEST_F(VersionsTest, OneDocumentsLivesComeNewestFirst) {
    const auto lives = lines({"versions", catalog(), "--name", "May.txt", "--as", "jsonl"});
    ASSERT_EQ(lives.size(), 5U);
    std::vector<std::string> what;
    for (const json& life : lives) {
        what.push_back(life["what"]);
        EXPECT_EQ(life["of"], "wren/Logs/May.txt");
    }
    EXPECT_THAT(what, testing::ElementsAre("swap", "deleted", "backup", "history", "history"));
    EXPECT_EQ(lives[0]["words_added"], 7) << "one line that was never saved";
    EXPECT_EQ(lives[0]["words_removed"], 0);
    EXPECT_EQ(lives[3]["same_as"], lives[2]["id"]);
    EXPECT_THAT(run_program({"versions", catalog(), std::to_string(lives[2]["id"].get<int>())}).out,
                AllOf(HasSubstr("wren/Logs/May.txt"), HasSubstr("+7 -0 words"), HasSubstr("the same as")));
}

TEST_F(VersionsTest, DocumentsAreCountedWhereThereAreMany) {
    const auto all = run_program({"versions", catalog(), "--most", "2"});
    EXPECT_EQ(all.exit_code, 0);
    EXPECT_THAT(all.out, AllOf(HasSubstr("5 documents with more than one life"), HasSubstr("gone   wren/Logs/May.txt"),
                               HasSubstr("there  wren/Logs/Kept.txt")));
    EXPECT_THAT(run_program({"versions", catalog(), "--name", "nothing"}).out,
                HasSubstr("No document that is selected"));
    EXPECT_EQ(run_program({"versions", catalog(), "99999"}).exit_code, 2);
}

TEST_F(VersionsTest, CopiesAreSelectedByRoleLiveOnesToo) {
    EXPECT_THAT(run_program({"list", catalog(), "--role", "swap,owner note"}).out,
                AllOf(HasSubstr("4 files"), HasSubstr(".May.txt.swp"), HasSubstr("owner note")));
    EXPECT_THAT(run_program({"list", catalog(), "--role", "spare"}).err, HasSubstr("choose from"));
    EXPECT_THAT(run_program({"show", catalog(), "18"}).out,
                AllOf(HasSubstr("swap of wren/Logs/May.txt"), HasSubstr("an editor's swap file")));
}

TEST_F(VersionsTest, ACopyCanTakeItsDocumentsName) {
    const auto done = run_program({"restore", catalog(), "--role", "swap", "--as-original", "--to", path("out")});
    EXPECT_EQ(done.exit_code, 0) << done.err;
    for (const auto& file : truth_["files"])
        if (file.contains("recovered")) {
            EXPECT_EQ(test::sha256_of(folder_ / ("out/" + file["safety_copy_of"].get<std::string>())),
                      file["recovered"]["sha256"]);
        }
    EXPECT_THAT(test::read_text(folder_ / "out/manifest.csv"), HasSubstr("wren/Logs/.May.txt.swp"));
    // Without it each is what it is.
    ASSERT_EQ(run_program({"restore", catalog(), "--role", "swap", "--to", path("raw")}).exit_code, 0);
    EXPECT_TRUE(test::read_text(folder_ / "raw/wren/Logs/.May.txt.swp").starts_with("b0VIM"));
}

TEST_F(VersionsTest, AFolderComesBackAsItWas) {
    const auto done =
        run_program({"restore", catalog(), "--as-of", "2026-04-15", "--folder", "wren", "--to", path("april")});
    EXPECT_EQ(done.exit_code, 0) << done.err;
    EXPECT_EQ(test::read_text(folder_ / "april/wren/Logs/May.txt").size(),
              lines({"versions", catalog(), "--name", "May.txt", "--as", "jsonl"}).back()["size"]);
    EXPECT_FALSE(fs::exists(folder_ / "april/wren/Logs/Kept.txt")) << "nothing tells of it before May";
    ASSERT_EQ(run_program({"restore", catalog(), "--as-of", "2026-05-04", "--folder", "wren/Logs", "--to", path("may")})
                  .exit_code,
              0);
    EXPECT_THAT(test::read_text(folder_ / "may/wren/Logs/May.txt"), HasSubstr("never saved"));
    EXPECT_TRUE(fs::exists(folder_ / "may/wren/Logs/Kept.txt"));
    EXPECT_EQ(run_program({"list", catalog(), "--as-of", "soon"}).exit_code, 2);
}

TEST_F(VersionsTest, AShopsOwnCopiesAreToldFromAFile) {
    test::write_text(folder_ / "own.toml", "[[copy]]\nrole = \"backup\"\nname = \"All {name}\"\nwhere = \"nowhere\"\n");
    ASSERT_EQ(run_program({"scan", image_, "-c", catalog(), "--own-copies", path("own.toml")}).exit_code, 0);
    EXPECT_THAT(run_program({"list", catalog(), "--role", "backup"}).out, HasSubstr("All rings.txt"));
    test::write_text(folder_ / "own.toml", "[[copy]]\nrole = \"none\"\n");
    const auto wrong = run_program({"scan", image_, "-c", catalog(), "--own-copies", path("own.toml")});
    EXPECT_EQ(wrong.exit_code, 2);
    EXPECT_THAT(wrong.err, HasSubstr("own.toml, line 1"));
}

// Each state of each file comes back, and none twice; what was deleted since and written over is whole.
TEST_F(VersionsTest, ShadowCopiesAreVolumesAtAPointInTime) {
    const std::string office = test::unpack_to("ntfs-shadows", folder_.path()).string();
    const std::string kept = path("office.dredge");
    EXPECT_THAT(run_program({"survey", office}).out,
                HasSubstr("keeps 3 shadow copies of itself: 2026-05-01 10:00, 2026-05-08 10:00, 2026-05-15 10:00"));
    EXPECT_THAT(run_program({"scan", office, "-c", kept}).out, HasSubstr("as of 2026-05-08 10:00"));
    ASSERT_EQ(run_program({"restore", kept, "--state", "live,deleted", "--to", path("out")}).exit_code, 0);
    const std::string sums = test::read_text(folder_ / "out/SHA256SUMS");
    const json truth = test::truth_of("ntfs-shadows");
    std::map<std::string, std::set<std::string>> states;  // of each path, by their sums
    for (const auto& state : truth["states"])
        for (const auto& file : state["files"]) {
            EXPECT_THAT(sums, HasSubstr(file["sha256"].get<std::string>())) << state["made"] << file["path"];
            states[file["path"]].insert(file["sha256"].get<std::string>());
        }
    std::map<std::string, std::size_t> listed;
    for (const json& row : lines({"list", kept, "--state", "live,deleted", "--as", "jsonl"}))
        ++listed[row["path"].get<std::string>()];
    for (const auto& [file, sums_of_it] : states) EXPECT_EQ(listed[file], sums_of_it.size()) << file;
    const auto permit = lines({"versions", kept, "--name", "Permit.txt", "--as", "jsonl"});
    ASSERT_EQ(permit.size(), 2U);
    EXPECT_EQ(permit[1]["when"], "2026-05-01T10:00:00Z");
    EXPECT_THAT(run_program({"list", kept, "--name", "Ledge 5.jpg"}).out, HasSubstr("100 sound"));
    ASSERT_EQ(
        run_program({"restore", kept, "--as-of", "2026-05-02", "--folder", "Logs", "--to", path("may")}).exit_code, 0);
    for (const auto& file : truth["states"][0]["files"])
        if (const std::string name = file["path"]; name.starts_with("Logs/")) {
            EXPECT_EQ(test::sha256_of(folder_ / "may" / name), file["sha256"]) << name;
        }
    EXPECT_EQ(run_program({"scan", office, "-c", path("without.dredge"), "--no-snapshots"}).exit_code, 0);
    EXPECT_THAT(run_program({"list", path("without.dredge"), "--name", "Ledge 5.jpg"}).out, Not(HasSubstr("sound")));
}

constexpr std::size_t kShadowHeader = 0x1E00, kShadowBlock = 0x4000;

// Where the blocks of a type stand of a volume that keeps shadow copies.
std::vector<std::size_t> shadow_blocks(const std::string& volume, std::uint32_t type) {
    std::vector<std::size_t> found;
    for (std::size_t at = 0; at + kShadowBlock <= volume.size(); at += kShadowBlock) {
        std::uint32_t told = 0;
        std::memcpy(&told, volume.data() + at + 20, sizeof told);
        if (volume.compare(at, 16, volume, kShadowHeader, 16) == 0 && told == type) found.push_back(at);
    }
    return found;
}

// The list of the newest copy is gone: what is read through it may be today's bytes, and nothing of it is called sound
// but what lies in records.
TEST_F(VersionsTest, WhatADamagedShadowCopyKeepsIsNotBelieved) {
    const fs::path office = test::unpack_to("ntfs-shadows", folder_.path());
    std::string bytes = test::read_text(office);
    const auto lists = shadow_blocks(bytes, 3);
    ASSERT_FALSE(lists.empty());
    bytes.replace(lists.back(), 16, 16, '\0');
    test::write_text(office, bytes);
    const std::string kept = path("office.dredge");
    EXPECT_THAT(run_program({"scan", office.string(), "-c", kept}).err, HasSubstr("is damaged"));
    std::size_t told = 0;
    for (const json& row : lines({"list", kept, "--state", "live,deleted", "--as", "jsonl"})) {
        if (row["reasons"].dump().find("shadow copy") == std::string::npos || row["size"] < 1024) continue;
        ++told;
        EXPECT_NE(row["band"], "sound") << row["path"];
    }
    EXPECT_GT(told, 0U);
}

// The catalog of the copies is gone: they are found by their blocks in the file that holds them.
TEST_F(VersionsTest, ShadowCopiesAreFoundWithoutTheirCatalog) {
    const fs::path office = test::unpack_to("ntfs-shadows", folder_.path());
    std::string bytes = test::read_text(office);
    for (const std::size_t at : shadow_blocks(bytes, 2)) bytes.replace(at, 16, 16, '\0');
    test::write_text(office, bytes);
    EXPECT_THAT(run_program({"survey", office.string()}).out, HasSubstr("a scan looks for their stores"));
    const std::string kept = path("office.dredge");
    EXPECT_THAT(run_program({"scan", office.string(), "-c", kept}).out, HasSubstr("as of unknown time"));
    ASSERT_NE(run_program({"restore", kept, "--state", "live,deleted", "--to", path("out")}).exit_code, 2);
    const std::string sums = test::read_text(folder_ / "out/SHA256SUMS");
    for (const auto& state : test::truth_of("ntfs-shadows")["states"])
        for (const auto& file : state["files"])
            EXPECT_THAT(sums, HasSubstr(file["sha256"].get<std::string>())) << file["path"];
}

TEST_F(VersionsTest, StatesOfSnapshotsAreLivesOfTheirDocuments) {
    const std::string days = test::unpack_to("btrfs-snapshots", folder_.path()).string();
    ASSERT_EQ(run_program({"scan", days, "-c", path("days.dredge")}).exit_code, 0);
    const auto lives = lines({"versions", path("days.dredge"), "--role", "history", "--most", "99", "--as", "jsonl"});
    std::set<std::string> documents;
    for (const json& life : lives)
        if (life["role"] == "history") {
            documents.insert(life["of"]);
            EXPECT_THAT(life["path"].get<std::string>(), HasSubstr("Day "));
            EXPECT_FALSE(life["when"].is_null());
        }
    EXPECT_GE(documents.size(), 5U);
    const std::string without = path("without.dredge");
    ASSERT_EQ(run_program({"scan", days, "-c", without, "--no-snapshots"}).exit_code, 0);
    EXPECT_THAT(run_program({"list", without, "--role", "history"}).err, HasSubstr("Nothing"));
}

}  // namespace
}  // namespace dredger

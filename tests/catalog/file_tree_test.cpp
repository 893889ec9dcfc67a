#include "catalog/file_tree.h"

#include <gmock/gmock.h>

#include "support/support.h"

namespace dredger {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

class FileTreeTest : public testing::Test {
  protected:
    void SetUp() override {
        catalog_.emplace(Catalog::open_for_scan(folder_ / "card.dredge").value());
        ASSERT_TRUE(catalog_->add_source({0, "/images/card.img", {64 << 20, "RS-1", {"a"}}}));
        ScannedVolume volume;
        volume.source = 1;
        ASSERT_TRUE(catalog_->add_volume(volume));
    }
    std::int64_t add(const std::string& folder, const std::string& name, int prospect = 90, bool is_folder = false) {
        Candidate c;
        c.id = catalog_->next_id().value();
        c.volume = 1;
        c.record.folder = folder;
        c.record.name = name;
        c.record.is_folder = is_folder;
        c.record.state = State::deleted;
        c.prospect.value = prospect;
        EXPECT_TRUE(catalog_->add(c));
        return c.id;
    }
    std::vector<std::string> names(const std::string& folder) const {
        std::vector<std::string> list;
        const auto nodes = FileTree(*catalog_).children(folder).value();
        for (const FileTree::Node& node : nodes) list.push_back(node.name + (node.is_folder ? "/" : ""));
        return list;
    }
    test::TempFolder folder_;
    std::optional<Catalog> catalog_;
};

TEST_F(FileTreeTest, FoldersAreThereThatOnlyLieAboveOthers) {
    add("Logs/2026/May", "terns.csv");
    add("", "diary.txt");
    EXPECT_THAT(names(""), ElementsAre("Logs/", "diary.txt"));
    EXPECT_THAT(names("Logs"), ElementsAre("2026/"));
    EXPECT_THAT(names("Logs/2026/May"), ElementsAre("terns.csv"));
    EXPECT_THAT(names("Logs/2027"), IsEmpty());
}

TEST_F(FileTreeTest, FoldersWhoseNamesBeginAlikeAreAllThere) {
    for (const char* folder : {"A/x", "A (2)", "A-b/y", "A0", "A", "Ab/z"}) add(folder, "f");
    EXPECT_THAT(names(""), ElementsAre("A/", "A (2)/", "A-b/", "A0/", "Ab/"));
}

TEST_F(FileTreeTest, NamesAreUnique) {
    const auto worse = add("Logs", "terns.csv", 10), best = add("Logs", "terns.csv", 95),
               folded = add("Logs", "TERNS.csv", 50);
    const auto there = add("Logs", "terns.csv", 0, true);
    EXPECT_THAT(names("Logs"), ElementsAre("TERNS (3).csv", "terns (2).csv", "terns (4).csv", "terns.csv/"));
    const FileTree tree(*catalog_);
    EXPECT_EQ(tree.lookup("Logs/terns.csv").value()->candidate, there);
    EXPECT_EQ(tree.lookup("Logs/terns (2).csv").value()->candidate, best);
    EXPECT_EQ(tree.lookup("Logs/TERNS (3).csv").value()->candidate, folded);
    EXPECT_EQ(tree.lookup("Logs/terns (4).csv").value()->candidate, worse);
    EXPECT_FALSE(tree.lookup("Logs/terns (5).csv").value());
    EXPECT_TRUE(tree.lookup("").value()->is_folder);
}

TEST_F(FileTreeTest, FoldersThatDifferInCaseAloneAreBothReached) {
    add("Logs", "a.csv");
    add("LOGS", "b.csv");
    EXPECT_THAT(names(""), ElementsAre("LOGS/", "Logs (2)/"));
    EXPECT_THAT(names("LOGS"), ElementsAre("b.csv"));
    EXPECT_THAT(names("Logs (2)"), ElementsAre("a.csv"));
}

TEST_F(FileTreeTest, OnlyWhatIsSelectedIsThere) {
    add("Logs", "gone.csv", 0);
    const auto kept = add("Logs", "terns.csv", 95);
    Selection good;
    good.prospect.from = 60;
    const auto nodes = FileTree(*catalog_, good).children("Logs").value();
    ASSERT_EQ(nodes.size(), 1U);
    EXPECT_EQ(nodes.front().candidate, kept);
}

}  // namespace
}  // namespace dredger

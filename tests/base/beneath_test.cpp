#include "base/beneath.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

class BeneathTest : public testing::Test {
  protected:
    void SetUp() override {
        fs::create_directories(root_);
        fs::create_directories(outside_);
    }
    test::TempFolder folder_;
    const fs::path root_ = folder_ / "root", outside_ = folder_ / "outside";
};

TEST_F(BeneathTest, FoldersAreMadeAndFilesGetTheirNames) {
    EXPECT_FALSE(make_folder_beneath({root_, "a/b/c"}));
    EXPECT_FALSE(make_folder_beneath({root_, "a/b/c"})) << "they are there already";
    EXPECT_FALSE(make_folder_beneath({root_, ""}));
    test::write_text(root_ / "new", "log");
    EXPECT_FALSE(rename_beneath(root_ / "new", {root_, "a/b/c/log"}));
    EXPECT_EQ(test::read_text(root_ / "a/b/c/log"), "log");
}

TEST_F(BeneathTest, NothingLeadsOutOfTheFolder) {
    fs::create_directory_symlink(outside_, root_ / "link");
    fs::create_directory(root_ / "real");
    fs::create_directory_symlink(outside_, root_ / "real/link");
    test::write_text(root_ / "new", "log");
    for (const char* way : {"link", "link/a", "real/link", "real/link/a", "../outside/a", "real/../../outside/a"}) {
        EXPECT_TRUE(make_folder_beneath({root_, way})) << way;
        EXPECT_TRUE(rename_beneath(root_ / "new", {root_, fs::path(way) / "log"})) << way;
    }
    EXPECT_TRUE(fs::is_empty(outside_));
    EXPECT_TRUE(fs::exists(root_ / "new"));
    EXPECT_TRUE(make_folder_beneath({folder_ / "nowhere", "a"}));
}

TEST_F(BeneathTest, ALinkAtTheVeryPlaceIsReplacedOrRefused) {
    test::write_text(outside_ / "mine", "mine");
    fs::create_symlink(outside_ / "mine", root_ / "log");
    EXPECT_FALSE(refuse_link(root_ / "log"));
    EXPECT_TRUE(refuse_link(root_ / "other"));
    test::write_text(root_ / "new", "log");
    EXPECT_FALSE(rename_beneath(root_ / "new", {root_, "log"}));
    EXPECT_EQ(test::read_text(outside_ / "mine"), "mine");
    EXPECT_EQ(test::read_text(root_ / "log"), "log");
    EXPECT_FALSE(fs::is_symlink(root_ / "log"));
}

}  // namespace
}  // namespace dredger

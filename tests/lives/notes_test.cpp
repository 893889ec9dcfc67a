#include "lives/notes.h"

#include <gtest/gtest.h>

#include "lives/own_habits.h"
#include "support/support.h"

namespace dredger::lives {
namespace {

TEST(Notes, UrisBecomePaths) {
    EXPECT_EQ(path_of_uri("file:///home/wren/Ring%20list.txt"), "home/wren/Ring list.txt");
    EXPECT_EQ(path_of_uri("file://hut/home/wren/a.txt"), "home/wren/a.txt");
    EXPECT_EQ(path_of_uri("file:///C:/Users/wren/a.txt"), "Users/wren/a.txt");
    EXPECT_EQ(path_of_uri("file:///100%"), "100%");
    for (const char* other : {"", "http://hut/a.txt", "untitled:1"}) EXPECT_EQ(path_of_uri(other), "");
}

class OwnHabitsFile : public testing::Test {
  protected:
    std::string error_of(const std::string& text) const {
        test::write_text(folder_ / "own.toml", text);
        const auto read = OwnHabits::read(folder_ / "own.toml");
        return read ? "none" : read.error().line();
    }
    test::TempFolder folder_;
};

TEST_F(OwnHabitsFile, SaysWhatCopiesOfAShopsProgramsLookLike) {
    test::write_text(
        folder_ / "own.toml",
        "[[copy]]\nrole = \"backup\"\nname = \"{stem}.rkb\"\nextensions = \"RING\"\nleft-by = \"the ringing "
        "program\"\n[[copy]]\nrole = \"history\"\nname = \"{name}\"\nfolder = \"Vault/{date}/{path}\"\nwhere "
        "= \"at path\"\n");
    const auto own = OwnHabits::read(folder_ / "own.toml");
    ASSERT_TRUE(own) << own.error().line();
    ASSERT_EQ(own->habits().size(), 2U);
    EXPECT_EQ(own->habits()[0].extensions, "ring");
    const Habits habits(own->habits());
    const auto claims = habits.claims_of("Vault/2026-05-01/Logs", "May.txt");
    ASSERT_FALSE(claims.empty());
    EXPECT_EQ(claims[0].habit->role, Role::history);
    EXPECT_EQ(claims[0].captured.path, "Logs");
}

TEST_F(OwnHabitsFile, IsToldWhatIsWrongWithIt) {
    EXPECT_NE(error_of("").find("[[copy]]"), std::string::npos);
    EXPECT_NE(error_of("[[copy]]\nrole = \"spare\"\nname = \"a\"\n").find("spare is none"), std::string::npos);
    EXPECT_NE(error_of("[[copy]]\nrole = \"backup\"\n").find("pattern of its name"), std::string::npos);
    EXPECT_NE(error_of("[[copy]]\nrole = \"backup\"\nname = \"a\"\nwhere = \"up\"\n").find("up is none"),
              std::string::npos);
    EXPECT_NE(error_of("[[copy]]\nrole = \"backup\"\nname = \"a\"\nfolders = \"x\"\n").find("folders is not known"),
              std::string::npos);
    EXPECT_NE(error_of("[[copy").find("line 1"), std::string::npos);
    EXPECT_NE(OwnHabits::read(folder_ / "none.toml").error().line().find("no such file"), std::string::npos);
}

}  // namespace
}  // namespace dredger::lives

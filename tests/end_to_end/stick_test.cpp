// What keeps a rescue stick from being made onto the wrong thing. That it starts computers is tried by ./dev stick.
#include <filesystem>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::run_program;
using testing::HasSubstr;

class StickTest : public testing::Test {
  protected:
    std::string to(const std::string& name) const { return (folder_ / name).string(); }
    test::TempFolder folder_;
};

TEST_F(StickTest, IsToldWhereTo) {
    for (const std::vector<std::string>& words :
         {std::vector<std::string>{"stick"}, {"stick", "--to", to("a.img"), "--erase", "/dev/sdx"}}) {
        const auto ran = run_program(words);
        EXPECT_EQ(ran.exit_code, 2);
        EXPECT_THAT(ran.err, HasSubstr("name a file or an empty stick with --to, or a drive with --erase"));
    }
}

TEST_F(StickTest, NeverTakesAFileThatIsThere) {
    test::write_text(folder_ / "thesis.img", "of seven years");
    const auto ran = run_program({"stick", "--to", to("thesis.img")});
    EXPECT_EQ(ran.exit_code, 2);
    EXPECT_THAT(ran.err, HasSubstr("it is there already"));
    EXPECT_EQ(test::read_text(folder_ / "thesis.img"), "of seven years");
}

TEST_F(StickTest, NeverTakesWhatIsNoWholeDrive) {
    test::write_text(folder_ / "thesis.txt", "of seven years");
    for (const std::string& what : {to("thesis.txt"), std::string("/dev/null"), std::string("/dev/sdzz9")}) {
        const auto ran = run_program({"stick", "--erase", what});
        EXPECT_EQ(ran.exit_code, 2) << what;
        EXPECT_THAT(ran.err, HasSubstr("this is no whole drive: " + what));
    }
    EXPECT_EQ(test::read_text(folder_ / "thesis.txt"), "of seven years");
}

TEST_F(StickTest, TakesASizeThatIsOne) {
    for (const char* size : {"much", "1G..2G", "..1G", "0"}) {
        const auto ran = run_program({"stick", "--to", to("a.img"), "--size", size});
        EXPECT_EQ(ran.exit_code, 2) << size;
        EXPECT_THAT(ran.err, HasSubstr("write it like 1G or 2000M")) << size;
        EXPECT_FALSE(fs::exists(folder_ / "a.img"));
    }
}

TEST_F(StickTest, AFolderThatIsNotThereIsSaidAtOnce) {
    const auto ran = run_program({"stick", "--to", to("missing/a.img"), "--packages", to("cache")});
    EXPECT_EQ(ran.exit_code, 2);
    EXPECT_THAT(ran.err, HasSubstr("it can't be written there: No such file or directory"));
    EXPECT_FALSE(fs::exists(folder_ / "cache"));
}

TEST_F(StickTest, SaysWhatIsMissingToMakeOne) {
    fs::create_directory(folder_ / "bin");
    for (const char* program : {"bash", "env", "dirname", "realpath"})
        fs::create_symlink(fs::path("/usr/bin") / program, folder_ / "bin" / program);
    test::RunOptions options;
    options.before = "PATH='" + to("bin") + "';";
    const auto ran = run_program({"stick", "--to", to("a.img"), "--packages", to("cache")}, options);
    EXPECT_EQ(ran.exit_code, 2);
    EXPECT_THAT(ran.err, HasSubstr("this machine lacks what a stick is made with: sudo apt install xorriso mtools"));
    EXPECT_FALSE(fs::exists(folder_ / "a.img"));
    EXPECT_FALSE(fs::exists(folder_ / "cache"));
}

TEST_F(StickTest, ShowsAPreviewInWords) {
    const std::string image = test::unpack_to("ringing-station-drive", folder_.path()).string();
    ASSERT_EQ(run_program({"scan", image, "-c", to("a.dredge")}).exit_code, 0);
    const auto note = run_program({"show", to("a.dredge"), "81", "--text"});
    EXPECT_EQ(note.exit_code, 0);
    EXPECT_THAT(note.out, HasSubstr("What it says\n  north hut: under the third stone\n"));
    EXPECT_THAT(note.out, testing::Not(HasSubstr("Where it lies")));
    const auto film = run_program({"show", to("a.dredge"), "26", "--text"});
    EXPECT_THAT(film.out, HasSubstr("duration")) << "what its decoder says of it";
    const auto elsewhere = run_program({"show", to("a.dredge"), "81", "--text", "--source", to("missing.img")});
    EXPECT_THAT(elsewhere.out, HasSubstr("The medium is not at hand"));
}

}  // namespace
}  // namespace dredger

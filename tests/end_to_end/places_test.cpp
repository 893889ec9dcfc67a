// Places that take nothing, or no more: what each command says there, and its exit code.
#include <filesystem>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::run_program;
using testing::HasSubstr;

class PlacesTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path()).string();
        fs::create_directory(folder_ / "small");
        ASSERT_EQ(run_program({"scan", image_, "-c", to("drive.dredge")}).exit_code, 0);
    }
    std::string to(const std::string& name) const { return (folder_ / name).string(); }

    // In mounts of its own, after `setup`; `words`: of dredger.
    test::Said within(const std::string& setup, const std::string& words) const {
        const std::string program = (fs::read_symlink("/proc/self/exe").parent_path() / "dredger").string();
        return test::shell("DREDGER_CONFIG= unshare --mount sh -c '" + setup + " && \"" + program + "\" " + words +
                           "'");
    }
    bool can_mount() const { return test::shell("unshare --mount mount -t tmpfs none " + to("small")).exit_code == 0; }

    test::TempFolder folder_;
    std::string image_;
};

TEST_F(PlacesTest, NoMoreRoomIsExitCodeOneForEveryCommand) {
    if (!can_mount()) GTEST_SKIP() << "nothing can be mounted here";
    const std::string small = "mount -t tmpfs -o size=100k none " + to("small");
    for (const std::string& words :
         {"scan --deep " + image_ + " -c " + to("small/a.dredge"), "image " + image_ + " " + to("small/copy.img"),
          "preview " + to("drive.dredge") + " --to " + to("small/page"),
          "report " + to("drive.dredge") + " --to " + to("small/report"),
          "restore " + to("drive.dredge") + " --to " + to("small/files"),
          "repair " + image_ + " --to " + to("small/mended")}) {
        const auto said = within(small, words);
        EXPECT_EQ(said.exit_code, 1) << words << "\n" << said.out;
        EXPECT_THAT(said.out, testing::AnyOf(HasSubstr("full"), HasSubstr("No space left"), HasSubstr("no more room")))
            << words;
    }
}

TEST_F(PlacesTest, ACatalogCanBeReadWhereNothingCanBeWritten) {
    if (!can_mount()) GTEST_SKIP() << "nothing can be mounted here";
    const std::string odd = "small/drive 100%?.dredge";
    const std::string stiff = "mount -t tmpfs none " + to("small") + " && cp " + to("drive.dredge") + " \"" + to(odd) +
                              "\" && mount -o remount,ro " + to("small");
    const auto list = within(stiff, "list \"" + to(odd) + "\" --limit 3");
    EXPECT_EQ(list.exit_code, 0) << list.out;
    EXPECT_THAT(list.out, HasSubstr("PROSPECT"));
    const auto restored = within(stiff, "restore \"" + to(odd) + "\" --prospect 90.. --to " + to("files"));
    EXPECT_EQ(restored.exit_code, 0) << restored.out;
    const auto scan = within(stiff, "scan " + image_ + " -c \"" + to(odd) + "\"");
    EXPECT_EQ(scan.exit_code, 2);
    EXPECT_THAT(scan.out, HasSubstr("the catalog can't be written here"));
    const auto unclosed = within(stiff + " && mount -o remount,rw " + to("small") + " && echo x > \"" + to(odd) +
                                     "-wal\" && mount -o remount,ro " + to("small"),
                                 "list \"" + to(odd) + "\"");
    EXPECT_EQ(unclosed.exit_code, 3);
    EXPECT_THAT(unclosed.out, HasSubstr("copy it together with its -wal file"));
}

TEST_F(PlacesTest, OneBadSourceDoesNotStopTheOthers) {
    const auto both = run_program({"scan", to("missing.img"), image_, "-c", to("two.dredge")});
    EXPECT_EQ(both.exit_code, 1);
    EXPECT_THAT(both.err, HasSubstr("no such file or device: " + to("missing.img")));
    EXPECT_THAT(both.out, HasSubstr("finds in"));
    const auto none = run_program({"scan", to("missing.img"), to("gone.img"), "-c", to("none.dredge")});
    EXPECT_EQ(none.exit_code, 3);
    EXPECT_FALSE(fs::exists(folder_ / "none.dredge"));
}

}  // namespace
}  // namespace dredger

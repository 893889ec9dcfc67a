// What is made of a drive's own words. The texts have the members that smartctl(8) documents for --json.
#include "media/drive_health.h"

#include <cstdlib>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;
using Verdict = DriveHealth::Verdict;

std::string ata(bool passed, unsigned moved, unsigned pending) {
    return R"({"smart_status":{"passed":)" + std::string(passed ? "true" : "false") +
           R"(},"power_on_time":{"hours":21043},"ata_smart_attributes":{"table":[{"id":5,"raw":{"value":)" +
           std::to_string(moved) + R"(}},{"id":197,"raw":{"value":)" + std::to_string(pending) + "}}]}}";
}

TEST(DriveHealthTest, TellsHealthyWornAndFailingApart) {
    const DriveHealth fine = health_in(ata(true, 0, 0));
    EXPECT_EQ(fine.verdict, Verdict::fine);
    EXPECT_THAT(fine.sentences, ElementsAre("The drive calls itself healthy (21,043 hours in use)."));
    const DriveHealth worn = health_in(ata(true, 12, 0));
    EXPECT_EQ(worn.verdict, Verdict::worn);
    EXPECT_THAT(worn.sentences, ElementsAre(HasSubstr("12 sectors moved to spare places")));
    const DriveHealth failing = health_in(ata(true, 12, 8));
    EXPECT_EQ(failing.verdict, Verdict::failing);
    EXPECT_THAT(failing.sentences, ElementsAre(AllOf(HasSubstr("losing data"), HasSubstr("8 sectors that it can't")),
                                               HasSubstr("dredger image")));
    EXPECT_THAT(health_in(ata(false, 0, 0)).sentences.front(), HasSubstr("says itself that it is failing"));
}

TEST(DriveHealthTest, ReadsTheLogOfNvmeDrives) {
    const std::string log = R"({"smart_status":{"passed":true},"nvme_smart_health_information_log":)";
    EXPECT_EQ(health_in(log + R"({"critical_warning":0,"media_errors":0}})").verdict, Verdict::fine);
    EXPECT_EQ(health_in(log + R"({"critical_warning":4,"media_errors":0}})").verdict, Verdict::failing);
    EXPECT_THAT(health_in(log + R"({"critical_warning":0,"media_errors":3}})").sentences.front(),
                HasSubstr("3 reads or writes"));
}

TEST(DriveHealthTest, NothingIsSaidWhereTheDriveSaysNothing) {
    for (const char* text : {"", "[]", "{}", R"({"smart_status":{}})", R"({"smart_status":{"passed":"yes"}})",
                             R"({"smart_status":1,"ata_smart_attributes":[]})"}) {
        const DriveHealth health = health_in(text);
        EXPECT_EQ(health.verdict, Verdict::unknown) << text;
        EXPECT_TRUE(health.sentences.empty());
    }
    EXPECT_EQ(health_in(R"({"smart_status":{"passed":true},"ata_smart_attributes":{"table":[3,{"id":"x"}]}})").verdict,
              Verdict::fine);
    EXPECT_EQ(ask_for_health("/dev/null", "no-such-program-here").verdict, Verdict::unknown);
}

TEST(DriveHealthTest, TheProgramIsAskedForTheDevice) {
    const test::TempFolder folder;
    test::write_text(folder / "asked", "#!/bin/sh\n[ \"$5\" = /dev/sdq ] && echo '" + ata(true, 0, 5) + "'\nexit 4\n");
    std::filesystem::permissions(folder / "asked", std::filesystem::perms::owner_all);
    const std::string path = std::getenv("PATH");
    ::setenv("PATH", (folder.path().string() + ":" + path).c_str(), 1);
    const DriveHealth health = ask_for_health("/dev/sdq", "asked");
    ::setenv("PATH", path.c_str(), 1);
    EXPECT_EQ(health.verdict, Verdict::failing);
}

}  // namespace
}  // namespace dredger

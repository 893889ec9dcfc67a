// The guide as somebody at a terminal meets it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include "support/conversation.h"
#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::Conversation;
using testing::HasSubstr;
using testing::Not;

class GuideOnTerminalTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path()).string();
        fs::create_directory(folder_ / "place");
    }
    std::vector<std::string> words() const { return {"guide", "--to", place()}; }
    std::string place() const { return (folder_ / "place").string(); }
    fs::path rescue() const {
        for (const fs::directory_entry& entry : fs::directory_iterator(folder_ / "place")) return entry.path();
        return {};
    }
    // From the start to where finds are chosen.
    void reach_the_choice(Conversation& guide, const std::string& kinds = "") const {
        ASSERT_TRUE(guide.answers("Which drive or card", image_)) << guide.last();
        ASSERT_TRUE(guide.answers("What was lost?", kinds)) << guide.last();
        ASSERT_TRUE(guide.answers("A word of its name", "")) << guide.last();
        ASSERT_TRUE(guide.answers("When was it changed last", "")) << guide.last();
        ASSERT_TRUE(guide.answers("could it be somewhere else?", "")) << guide.last();
        ASSERT_TRUE(guide.answers("Where shall the found files go?", "1")) << guide.last();
    }

    test::TempFolder folder_;
    std::string image_;
};

TEST_F(GuideOnTerminalTest, BringsBackWhatWasChosen) {
    Conversation guide(words());
    ASSERT_NO_FATAL_FAILURE(reach_the_choice(guide, "2,5"));
    ASSERT_TRUE(guide.hears("$ dredger scan ")) << "the commands are shown";
    ASSERT_TRUE(guide.hears("In the bins, whole"));
    ASSERT_TRUE(guide.hears("Found of pictures and documents, the best first"));
    ASSERT_TRUE(guide.answers("What now [all", "s 81"));
    ASSERT_TRUE(guide.hears("north hut: under the third stone")) << guide.last();
    ASSERT_TRUE(guide.answers("What now [all", "81,91"));
    ASSERT_TRUE(guide.hears("2 whole")) << guide.last();
    ASSERT_TRUE(guide.answers("What now [f", "")) << "what was chosen is there: Enter ends";
    ASSERT_TRUE(guide.hears("What to do next"));
    EXPECT_EQ(guide.ends(), 0);
    const auto truth = test::truth_of("ringing-station-drive");
    std::size_t right = 0;
    for (const auto& file : truth["files"])
        for (const fs::directory_entry& entry : fs::recursive_directory_iterator(rescue() / "files"))
            right += entry.is_regular_file() && file["sha256"] == test::sha256_of(entry.path()) ? 1 : 0;
    EXPECT_EQ(right, 2U);
    EXPECT_TRUE(fs::exists(rescue() / "report" / "report.html"));
    const std::string commands = test::read_text(rescue() / "commands.txt");
    for (const char* command : {"dredger scan ", "dredger picks add ", "dredger restore ", "dredger report "})
        EXPECT_THAT(commands, HasSubstr(command));
    EXPECT_EQ(nlohmann::json::parse(test::read_text(rescue() / "rescue.json"))["done"], true);
}

TEST_F(GuideOnTerminalTest, FitsTheTerminalAndGivesNoOtherAdvice) {
    Conversation guide(words());
    std::string all;
    ASSERT_TRUE(guide.answers("Which drive or card", image_));
    for (const char* prompt : {"What was lost?", "A word of", "When was", "somewhere else?", "files go?", "What now"}) {
        ASSERT_TRUE(guide.answers(prompt, "")) << prompt;
        all += guide.last();
    }
    guide.says("q");
    (void)guide.ends();
    all += guide.last();
    EXPECT_THAT(all, Not(HasSubstr("Next: ")));
    EXPECT_THAT(all, Not(HasSubstr("Look in the bin first")));
}

TEST_F(GuideOnTerminalTest, ExplainsGoesBackAndRefusesNonsense) {
    Conversation guide(words());
    ASSERT_TRUE(guide.answers("Which drive or card", "?"));
    ASSERT_TRUE(guide.hears("nothing on it is changed"));
    ASSERT_TRUE(guide.answers("Its number", "b"));
    ASSERT_TRUE(guide.hears("This is the first question."));
    ASSERT_TRUE(guide.answers("Its number", "/nowhere/card.img"));
    ASSERT_TRUE(guide.hears("/nowhere/card.img")) << "what is wrong is said";
    ASSERT_TRUE(guide.answers("Which drive or card", image_));
    ASSERT_TRUE(guide.answers("What was lost?", "everything"));
    ASSERT_TRUE(guide.hears("Write numbers from the list. ? explains."));
    ASSERT_TRUE(guide.answers("Its number", "b"));
    ASSERT_TRUE(guide.answers("Which drive or card", "q"));
    ASSERT_TRUE(guide.hears("Nothing was begun yet"));
    EXPECT_EQ(guide.ends(), 130);
    EXPECT_TRUE(fs::is_empty(folder_ / "place"));
}

TEST_F(GuideOnTerminalTest, ControlCKeepsEverythingAndTheNextTimeGoesOn) {
    {
        Conversation guide(words());
        ASSERT_NO_FATAL_FAILURE(reach_the_choice(guide, "2"));
        ASSERT_TRUE(guide.hears("What now [all]: "));
        guide.interrupts();
        ASSERT_TRUE(guide.hears("Everything is kept in"));
        EXPECT_EQ(guide.ends(), 130);
    }
    Conversation guide(words());
    ASSERT_TRUE(guide.hears("pictures of ")) << guide.last();
    ASSERT_TRUE(guide.answers("Go on with which one?", ""));
    ASSERT_TRUE(guide.hears("in the catalog already")) << "nothing is searched twice";
    ASSERT_TRUE(guide.answers("What now [all", "all"));
    ASSERT_TRUE(guide.hears("written to"));
    ASSERT_TRUE(guide.answers("What now [f", ""));
    ASSERT_TRUE(guide.hears("What to do next"));
    EXPECT_EQ(guide.ends(), 0);
}

TEST_F(GuideOnTerminalTest, TheSurfaceFindsWhatNoRecordTells) {
    Conversation guide(words());
    ASSERT_NO_FATAL_FAILURE(reach_the_choice(guide));
    ASSERT_TRUE(guide.answers("What now [all", "d"));
    ASSERT_TRUE(guide.hears("$ dredger scan --deep"));
    ASSERT_TRUE(guide.hears("8 files without a record"));
    ASSERT_TRUE(guide.answers("What now [all", "q"));
    EXPECT_EQ(guide.ends(), 130);
    EXPECT_EQ(nlohmann::json::parse(test::read_text(rescue() / "rescue.json"))["searched"], true);
}

TEST_F(GuideOnTerminalTest, NothingFoundIsSaid) {
    const std::string blank = (folder_ / "blank.img").string();
    test::write_text(blank, "");
    fs::resize_file(blank, 8 << 20);
    image_ = blank;
    Conversation guide(words());
    ASSERT_NO_FATAL_FAILURE(reach_the_choice(guide));
    ASSERT_TRUE(guide.hears("No records can be read there")) << guide.last();
    ASSERT_TRUE(guide.hears("Nothing that was deleted was found so far."));
    ASSERT_TRUE(guide.answers("What now [d", ""));
    ASSERT_TRUE(guide.answers("What now [f", ""));
    ASSERT_TRUE(guide.answers("Nothing was restored yet", "y"));
    ASSERT_TRUE(guide.hears("What to do next"));
    EXPECT_EQ(guide.ends(), 0);
}

TEST_F(GuideOnTerminalTest, EndsWhereNobodyAnswers) {
    const auto ran = test::run_program(words());
    EXPECT_EQ(ran.exit_code, 130);
    EXPECT_THAT(ran.out, HasSubstr("Nothing was begun yet"));
}

TEST_F(GuideOnTerminalTest, AttachesBySomebodyElsesProgram) {
    test::write_text(folder_ / "attach", "#!/bin/sh\nmkdir -p '" + (folder_ / "shared").string() + "'\necho \"$1\" >'" +
                                             (folder_ / "asked").string() + "'\necho '" +
                                             (folder_ / "shared").string() + "'\n");
    fs::permissions(folder_ / "attach", fs::perms::owner_all);
    auto with = words();
    with.insert(with.end(), {"--attach", (folder_ / "attach").string()});
    Conversation guide(with);
    ASSERT_TRUE(guide.answers("Which drive or card", image_));
    for (const char* prompt : {"What was lost?", "A word of", "When was", "somewhere else?"})
        ASSERT_TRUE(guide.answers(prompt, ""));
    ASSERT_TRUE(guide.answers("files go?", "//station/it's here"));
    ASSERT_TRUE(guide.hears("shared/rescue-")) << guide.last();
    EXPECT_EQ(test::read_text(folder_ / "asked"), "//station/it's here\n");
    guide.says("q");
    (void)guide.ends();
}

}  // namespace
}  // namespace dredger

// The conversation without a terminal and without a machine: what is asked, what is run, where an answer leads.
#include "guiding/guide.h"

#include <deque>
#include <gmock/gmock.h>

#include "catalog/picks.h"
#include "scanning/scan_fixture.h"

namespace dredger::guiding {
namespace {

namespace fs = std::filesystem;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;
using testing::StartsWith;
using Way = Reply::Way;

// Answers by a script, takes down what is said, and runs commands by what the test says of them.
class ScriptedTalk final : public Talk {
  public:
    void heading(const std::string& text) override { said.push_back("# " + text); }
    void say(const std::string& text) override { said.push_back(text); }
    Reply ask(const Question& question) override {
        asked.push_back(question.asks);
        EXPECT_FALSE(question.explains.empty()) << question.asks;
        EXPECT_EQ(question.objection(question.fallback), "") << question.asks << ": Enter must be an answer";
        if (answers.empty()) return {Way::later, {}};
        std::string words = answers.front();
        answers.pop_front();
        if (words == "b") return {Way::back, {}};
        if (words == "q") return {Way::later, {}};
        if (words.empty()) words = question.fallback;
        const std::string objection = question.objection(words);
        if (objection.empty()) return {Way::answered, words};
        said.push_back("objection: " + objection);
        return ask(question);
    }
    int run(const std::vector<std::string>& words) override {
        ran.push_back(words);
        return on_run ? on_run(words) : 0;
    }
    void forget() {
        said.clear();
        asked.clear();
        ran.clear();
    }
    std::string all() const {
        std::string text;
        for (const std::string& line : said) text += line + "\n";
        return text;
    }
    std::vector<std::string> commands() const {
        std::vector<std::string> names;
        for (const auto& words : ran) names.push_back(words.front());
        return names;
    }

    std::deque<std::string> answers;
    std::vector<std::string> said, asked;
    std::vector<std::vector<std::string>> ran;
    std::function<int(const std::vector<std::string>&)> on_run;
};

class PretendedMachine final : public Machine {
  public:
    std::vector<Patient> patients() override { return drives; }
    Result<Patient> patient(const std::string& path) override {
        if (path.starts_with("/missing")) return fail(ErrorKind::unreadable, "there is no such thing", path);
        for (const Patient& drive : drives)
            if (drive.path == path) return drive;
        Patient typed;
        typed.path = path;
        return typed;
    }
    std::vector<Place> places(const std::string&) override { return offered; }
    Result<Place> place(const std::string& folder, const std::string&) override {
        if (folder.starts_with("/danger")) return fail(ErrorKind::unsafe, "it lies on the same drive", folder);
        return Place{folder, {}, {}, room};
    }
    bool attaches() const override { return can_attach; }
    Result<Place> attach(const std::string& device, const std::string&) override {
        attached.push_back(device);
        return Place{attach_to, {}, {}, room};
    }
    std::uint64_t room_in(const fs::path&) override { return room; }

    std::vector<Patient> drives;
    std::vector<Place> offered;
    std::vector<std::string> attached;
    fs::path attach_to;
    std::uint64_t room = std::uint64_t{1} << 40;
    bool can_attach = false;
};

class GuideTest : public test::ScanFixture {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path());
        Patient card;
        card.path = image_.string();
        card.what = "100.0 MiB, removable";
        machine_.drives = {card};
        fs::create_directory(folder_ / "place");
        machine_.offered = {{folder_ / "place", {}, "exFAT", std::uint64_t{1} << 40}};
        // Scans are done; of the other commands only their words matter here.
        talk_.on_run = [this](const std::vector<std::string>& words) {
            if (words.front() == "scan") {
                if (scan_code_ != 0) return scan_code_;
                ScanRequest request{image_, {}, {}, {}, {}, {}};
                request.deep = std::find(words.begin(), words.end(), "--deep") != words.end();
                if (!holds_records_ && !request.deep) return 3;
                auto catalog = Catalog::open_for_scan(words.back());
                EXPECT_TRUE(catalog);
                EXPECT_TRUE(scan(*catalog, request, listener_));
            }
            if (words.front() == "restore") fs::create_directories(rescue() / "files");
            return 0;
        };
    }
    Ended guide(std::deque<std::string> answers) {
        talk_.answers = std::move(answers);
        return guiding::guide(talk_, machine_);
    }
    // The folder of the only rescue.
    fs::path rescue() const {
        for (const fs::directory_entry& entry : fs::directory_iterator(folder_ / "place")) return entry.path();
        return {};
    }
    std::vector<std::string> first(const std::string& command) const {
        for (const auto& words : talk_.ran)
            if (words.front() == command) return words;
        return {};
    }

    fs::path image_;
    ScriptedTalk talk_;
    PretendedMachine machine_;
    int scan_code_ = 0;
    bool holds_records_ = true;
};

const std::deque<std::string> kToThePlace = {"", "", "", "", ""};  // patient, kinds, name, time, cheaper ways

std::deque<std::string> behind_the_place(std::initializer_list<const char*> more) {
    std::deque<std::string> answers = kToThePlace;
    answers.emplace_back("");
    answers.insert(answers.end(), more.begin(), more.end());
    return answers;
}

TEST_F(GuideTest, EnterAloneDoesTheWholeJob) {
    EXPECT_EQ(guide(behind_the_place({"", ""})), Ended::done);
    EXPECT_THAT(talk_.commands(), ElementsAre("scan", "list", "list", "picks", "restore", "report"));
    EXPECT_THAT(first("scan"), ElementsAre("scan", image_.string(), "-c", (rescue() / "finds.dredge").string()));
    EXPECT_THAT(first("picks"), ElementsAre("picks", "add", (rescue() / "picks.csv").string(),
                                            (rescue() / "finds.dredge").string(), "--prospect", "1.."));
    EXPECT_THAT(first("report"), Contains("--restored"));
    EXPECT_TRUE(read_rescue(rescue())->is_done);
    EXPECT_THAT(test::read_text(rescue() / "commands.txt"), HasSubstr("dredger restore --picks"));
    EXPECT_THAT(talk_.all(), HasSubstr("Copy them to a second place"));
}

TEST_F(GuideTest, WhatWasLostNarrowsTheListAndTheChoice) {
    auto answers = behind_the_place({"all", "f"});
    answers[1] = "2,5";
    answers[2] = "ledge";
    answers[3] = "2026";
    EXPECT_EQ(guide(answers), Ended::done);
    const std::vector<std::string> wanted = {"--kind", "picture,document", "--name", "ledge", "--modified", "2026"};
    for (const char* command : {"list", "picks"}) EXPECT_THAT(first(command), testing::IsSupersetOf(wanted)) << command;
    EXPECT_THAT(talk_.all(), HasSubstr("pictures and documents with \"ledge\" in their names, changed last 2026"));
}

TEST_F(GuideTest, MailIsLookedForInItsStores) {
    auto answers = behind_the_place({"f", "y"});
    answers[1] = "6";
    EXPECT_EQ(guide(answers), Ended::done);
    EXPECT_THAT(first("scan"), Contains("--mail"));
}

TEST_F(GuideTest, BinsAreShownBeforeAllElse) {
    (void)guide(behind_the_place({"q"}));
    ASSERT_GE(talk_.ran.size(), 3U);
    EXPECT_THAT(talk_.ran[1], testing::IsSupersetOf({"--state", "trashed"}));
    EXPECT_THAT(talk_.ran[2], Not(Contains("--state")));
}

TEST_F(GuideTest, LessIsAskedForWhereNothingIsThereOfIt) {
    auto answers = behind_the_place({"q"});
    answers[1] = "2";
    answers[2] = "nobody-has-this-name";
    (void)guide(answers);
    EXPECT_THAT(talk_.all(), HasSubstr("Nothing was found of pictures with \"nobody-has-this-name\" in their names; "
                                       "now: pictures"));
    EXPECT_THAT(talk_.ran.back(), Not(Contains("--name")));
}

TEST_F(GuideTest, BackLeadsToTheQuestionBefore) {
    EXPECT_EQ(guide({"b", "", "b", "", "", "b", "", "", "", "found"}), Ended::found_elsewhere);
    EXPECT_THAT(talk_.all(), HasSubstr("This is the first question."));
    const auto times = [&](const char* what) {
        return std::count_if(talk_.asked.begin(), talk_.asked.end(),
                             [&](const std::string& one) { return one.starts_with(what); });
    };
    EXPECT_EQ(times("Its number, the path"), 3);
    EXPECT_EQ(times("Its number; several"), 3);
    EXPECT_EQ(times("A word"), 2);
}

TEST_F(GuideTest, WrongAnswersAreSaidAndAskedAnew) {
    EXPECT_EQ(guide({"/missing/card.img", "", "99", "pictures", "0", "1", "", "soon", "", "perhaps", "found"}),
              Ended::found_elsewhere);
    EXPECT_THAT(talk_.all(), HasSubstr("there is no such thing: /missing/card.img"));
    EXPECT_THAT(talk_.said, Contains("objection: Write numbers from the list.").Times(3));
    EXPECT_THAT(talk_.said, Contains(StartsWith("objection: Write it like 2026-05")));
    EXPECT_THAT(talk_.said, Contains("objection: Press Enter, or write found."));
}

TEST_F(GuideTest, PlacesThatEndangerThePatientAreRefused) {
    std::deque<std::string> answers = kToThePlace;
    answers.insert(answers.end(), {"/danger/here", "7", (folder_ / "elsewhere").string(), "q"});
    EXPECT_EQ(guide(answers), Ended::later);
    EXPECT_THAT(talk_.all(), HasSubstr("it lies on the same drive: /danger/here"));
    EXPECT_THAT(talk_.said, Contains(StartsWith("objection: Write a number from the list")));
    EXPECT_TRUE(fs::exists(folder_ / "elsewhere"));
    EXPECT_TRUE(rescue().empty()) << "nothing was begun in the place that was offered";
}

TEST_F(GuideTest, ADriveThatTheSystemRunsFromIsWarnedOf) {
    machine_.drives[0].runs_this_system = true;
    EXPECT_EQ(guide({"", "", "", "q"}), Ended::later) << "Enter means no there";
    EXPECT_THAT(talk_.all(), HasSubstr("dredger stick"));
    EXPECT_TRUE(talk_.ran.empty());
    talk_.forget();
    EXPECT_EQ(guide({"", "yes", "", "q"}), Ended::later);
    EXPECT_THAT(talk_.asked.back(), StartsWith("A word"));
}

TEST_F(GuideTest, ADriveThatIsWrittenToIsWarnedOf) {
    machine_.drives[0].written = {"/dev/sdb1 is mounted for writing on /mnt"};
    (void)guide({"", "n", "q"});
    EXPECT_THAT(talk_.said, Contains("/dev/sdb1 is mounted for writing on /mnt"));
    EXPECT_THAT(talk_.asked, Contains("Go on all the same?"));
}

TEST_F(GuideTest, ADriveThatMayNotBeReadLeadsNowhere) {
    machine_.drives[0].is_readable = false;
    (void)guide({"1", "q"});
    EXPECT_THAT(talk_.all(), HasSubstr("sudo dredger guide"));
    EXPECT_EQ(talk_.asked.size(), 2U) << "the drive is asked for again";
}

TEST_F(GuideTest, AFailingDriveIsCopiedFirst) {
    machine_.drives[0].is_failing = true;
    machine_.drives[0].health = {"It says that it is failing."};
    const auto scan_it = talk_.on_run;
    talk_.on_run = [&](const std::vector<std::string>& words) {
        if (words.front() != "image") return scan_it(words);
        test::write_text(words[2], "a copy");
        return 0;
    };
    EXPECT_EQ(guide(behind_the_place({"", "q"})), Ended::later);
    EXPECT_THAT(talk_.said, Contains("It says that it is failing."));
    EXPECT_THAT(first("image"), ElementsAre("image", image_.string(), (rescue() / "copy.img").string()));
    EXPECT_EQ(first("scan")[1], (rescue() / "copy.img").string()) << "the copy is searched, not the drive";
    EXPECT_EQ(read_rescue(rescue())->source, (rescue() / "copy.img").string());
}

TEST_F(GuideTest, ACopyThatWasStoppedGoesOnAnotherDay) {
    machine_.drives[0].is_failing = true;
    talk_.on_run = [](const std::vector<std::string>&) { return 130; };
    EXPECT_EQ(guide(behind_the_place({""})), Ended::later);
    EXPECT_THAT(talk_.all(), HasSubstr("Everything is kept in " + rescue().string()));
    talk_.forget();
    EXPECT_EQ(guide({"", ""}), Ended::later);
    EXPECT_THAT(talk_.commands(), ElementsAre("image")) << "a drive that fails is not searched before it is copied";
}

TEST_F(GuideTest, ASearchThatWasStoppedCanBeLookedAt) {
    (void)guide(behind_the_place({"q"}));
    talk_.ran.clear();
    talk_.said.clear();
    scan_code_ = 130;
    EXPECT_EQ(guide({"", "", "d", "y", "d", "n"}), Ended::later);
    EXPECT_THAT(talk_.said, Contains(StartsWith("Stopped. What was found is kept")).Times(3));
    EXPECT_FALSE(read_rescue(rescue())->has_searched);
}

TEST_F(GuideTest, ARescueThatWasLeftGoesOn) {
    auto answers = behind_the_place({"q"});
    answers[1] = "2";
    EXPECT_EQ(guide(answers), Ended::later);
    EXPECT_THAT(talk_.all(), HasSubstr("Everything is kept in"));
    talk_.forget();
    EXPECT_EQ(guide({"", "7", "f"}), Ended::done);
    EXPECT_THAT(talk_.all(), HasSubstr("pictures of " + image_.string() + ", begun "));
    EXPECT_THAT(first("picks"), testing::IsSupersetOf({"--id", "7"}));
    talk_.forget();
    EXPECT_EQ(guide({"q"}), Ended::later);
    EXPECT_THAT(talk_.asked.front(), StartsWith("Its number, the path")) << "what has ended is not offered";
}

TEST_F(GuideTest, ANewRescueCanBeBegunBesideOneThatWasLeft) {
    (void)guide(behind_the_place({"q"}));
    talk_.asked.clear();
    EXPECT_EQ(guide({"n", "q"}), Ended::later);
    ASSERT_EQ(talk_.asked.size(), 2U);
    EXPECT_THAT(talk_.asked[1], StartsWith("Its number, the path"));
}

TEST_F(GuideTest, EnterTakesWhatASearchFoundAfterARestore) {
    EXPECT_EQ(guide(behind_the_place({"7", "d", "", ""})), Ended::done);
    EXPECT_THAT(talk_.commands(),
                ElementsAre("scan", "list", "list", "picks", "restore", "scan", "list", "picks", "restore", "report"));
}

TEST_F(GuideTest, NothingFoundLeadsToTheSurfaceAndThenToTheEnd) {
    const fs::path blank = folder_ / "blank.img";
    test::write_text(blank, "");
    fs::resize_file(blank, 4 << 20);
    image_ = blank;
    holds_records_ = false;
    EXPECT_EQ(guide(behind_the_place({"", "", "", "f", "y"})), Ended::done)
        << "Enter: the surface, then the end, which asks once more";
    EXPECT_THAT(talk_.all(), HasSubstr("Nothing that was deleted was found so far."));
    EXPECT_THAT(talk_.commands(), ElementsAre("scan", "scan", "report"));
    EXPECT_THAT(talk_.ran[1], Contains("--deep"));
    EXPECT_THAT(talk_.asked, Contains(StartsWith("Nothing was restored yet")).Times(2));
}

TEST_F(GuideTest, AFullDestinationIsSaidBeforeAnythingIsWritten) {
    machine_.room = 1 << 20;
    const auto run_it = talk_.on_run;
    talk_.on_run = [&](const std::vector<std::string>& words) {
        if (words.front() == "picks") {
            auto catalog = Catalog::open(rescue() / "finds.dredge").value();
            PickList list;
            EXPECT_TRUE(add_picks(list, catalog, Selection()));
            EXPECT_TRUE(write_picks(rescue() / "picks.csv", list));
        }
        return run_it(words);
    };
    (void)guide(behind_the_place({"all", "", "q"}));
    EXPECT_THAT(talk_.said, Contains(HasSubstr("and there is room for 0 B in")));
    EXPECT_THAT(talk_.commands(), Not(Contains("restore"))) << "Enter means no there";
}

TEST_F(GuideTest, AReportThatCannotBeWrittenIsNotPassedOver) {
    const auto run_it = talk_.on_run;
    talk_.on_run = [&](const std::vector<std::string>& words) { return words.front() == "report" ? 2 : run_it(words); };
    EXPECT_EQ(guide(behind_the_place({"f", "y"})), Ended::without_report);
    EXPECT_THAT(talk_.all(), Not(HasSubstr("Open the files"))) << "none were restored";
    EXPECT_THAT(talk_.all(), HasSubstr("Until then write nothing to"));
}

TEST_F(GuideTest, OneFindIsShownAndMoreAreListed) {
    (void)guide(behind_the_place({"s 32", "m", "v", "w", "", "", "", "q"}));
    EXPECT_THAT(first("show"), testing::IsSupersetOf({"32", "--text"}));
    EXPECT_FALSE(first("versions").empty());
    const auto more = std::find_if(talk_.ran.begin(), talk_.ran.end(), [](const auto& words) {
        return std::find(words.begin(), words.end(), "--from") != words.end();
    });
    ASSERT_NE(more, talk_.ran.end());
    EXPECT_THAT(*more, testing::IsSupersetOf({"--from", "13"}));
    EXPECT_THAT(talk_.asked.back(), StartsWith("What now")) << "other words lead back to the list";
}

TEST_F(GuideTest, DrivesAndSharesAreAttachedWhereTheMachineCan) {
    machine_.can_attach = true;
    machine_.attach_to = folder_ / "attached";
    machine_.offered = {{{}, "/dev/sdc1", "not mounted: exfat, 8.0 GiB", 0}};
    std::deque<std::string> answers = kToThePlace;
    answers.insert(answers.end(), {"1", "b", "//station/rescue", "b", "runa@station:/rescue", "q"});
    (void)guide(answers);
    EXPECT_THAT(machine_.attached, ElementsAre("/dev/sdc1", "//station/rescue", "runa@station:/rescue"));
    EXPECT_THAT(talk_.said, Contains(HasSubstr("/dev/sdc1  not mounted: exfat, 8.0 GiB")));
}

}  // namespace
}  // namespace dredger::guiding

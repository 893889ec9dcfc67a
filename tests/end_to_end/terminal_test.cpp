// What the program shows on a terminal: lines that fit it, colours where they are welcome, pages, progress.
#include "cli/terminal.h"

#include <algorithm>
#include <gmock/gmock.h>

#include "base/shell_word.h"
#include "cli/table.h"
#include "cli/words.h"
#include "support/support.h"

namespace dredger {
namespace {

using test::lines_on_terminal;
using test::Ran;
using test::run_on_terminal;
using test::run_program;
using testing::Each;
using testing::HasSubstr;
using testing::Le;
using testing::Not;

std::size_t columns_of(const std::string& line) { return cli::display_width(line); }

class TerminalTest : public testing::Test {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("ringing-station-drive", folder_.path()).string();
        ASSERT_EQ(run_program({"scan", image_, "-c", catalog()}).exit_code, 0);
        ASSERT_EQ(run_program({"picks", "add", picks(), catalog(), "--kind", "picture"}).exit_code, 0);
    }
    std::string catalog() const { return (folder_ / "a.dredge").string(); }
    std::string picks() const { return (folder_ / "p.csv").string(); }
    std::string to(const std::string& name) const { return (folder_ / name).string(); }
    // Every command, but for those that only ask a machine.
    std::vector<std::vector<std::string>> commands() const {
        return {{"survey", image_},
                {"scan", image_, "-c", catalog()},
                {"scan", "--deep", image_, "-c", to("b.dredge")},
                {"list", catalog()},
                {"list", catalog(), "--contains", "ring"},
                {"list", catalog(), "--group", "folder"},
                {"show", catalog(), "91"},
                {"show", catalog(), "32"},
                {"versions", catalog()},
                {"preview", catalog(), "--kind", "document", "--to", to("look")},
                {"picks", "show", picks()},
                {"picks", "check", picks()},
                {"restore", catalog(), "--kind", "document", "--to", to("out")},
                {"restore", catalog(), "--kind", "picture", "--to", to("dry"), "--dry-run"},
                {"report", catalog(), "--to", to("report")},
                {"image", image_, to("copy.img"), "--within", "0..4M"},
                {"kinds", "--kind", "picture,database"}};
    }

    void expect_fits(const std::vector<std::string>& words, unsigned columns) const {
        for (const std::string& line : lines_on_terminal(run_on_terminal(words, columns).out)) {
            // Names and paths of the machine can't be broken.
            const bool has_path = line.find(folder_.path().string()) != std::string::npos;
            EXPECT_TRUE(has_path || columns_of(line) <= columns) << words[0] << " at " << columns << ": " << line;
        }
    }

    test::TempFolder folder_;
    std::string image_;
};

TEST_F(TerminalTest, NoLineIsWiderThanIt) {
    for (const auto& words : commands()) expect_fits(words, 80);
}

TEST_F(TerminalTest, TheDemoFitsIt) {
    for (const std::string& line : lines_on_terminal(run_on_terminal({"demo", "--to", to("demo")}, 80).out)) {
        const bool has_path = line.find(folder_.path().string()) != std::string::npos;
        EXPECT_TRUE(has_path || columns_of(line) <= 80) << line;
    }
}

TEST_F(TerminalTest, TablesFitNarrowAndWideOnes) {
    for (const unsigned columns : {60U, 100U, 200U})
        for (const std::vector<std::string>& words : {std::vector<std::string>{"survey", image_, "-q"},
                                                      {"list", catalog()},
                                                      {"list", catalog(), "--group", "folder"},
                                                      {"list", catalog(), "--every-copy", "--state", "live,deleted"},
                                                      {"picks", "show", picks()},
                                                      {"kinds"}})
            expect_fits(words, columns);
}

TEST_F(TerminalTest, HelpFitsIt) {
    for (const unsigned columns : {60U, 80U, 100U})
        for (const char* command : {"survey", "scan", "list", "show", "versions", "preview", "picks", "restore",
                                    "repair", "report", "image", "kinds", "demo"}) {
            const Ran ran = run_on_terminal({command, "--help"}, columns);
            bool is_example = false;
            for (const std::string& line : lines_on_terminal(ran.out)) {
                is_example = is_example || line.starts_with("Examples");
                EXPECT_THAT(line, Not(HasSubstr("…"))) << command;
                if (is_example) continue;
                EXPECT_LE(columns_of(line), columns) << command << ": " << line;
            }
            EXPECT_THAT(ran.out, Not(testing::ContainsRegex("UINT|INT:|POSITIVE|--[a-z]+ \\.\\.\\."))) << command;
        }
}

TEST_F(TerminalTest, ColoursAreWhereTheyAreWelcome) {
    const std::string escape = "\x1B[";
    EXPECT_THAT(run_on_terminal({"list", catalog()}, 100).out, HasSubstr(escape));
    EXPECT_THAT(run_on_terminal({"list", catalog()}, 100, "PAGER=cat NO_COLOR=1").out, Not(HasSubstr(escape)));
    EXPECT_THAT(run_on_terminal({"list", catalog()}, 100, "TERM=dumb").out, Not(HasSubstr(escape)));
    EXPECT_THAT(run_on_terminal({"list", catalog(), "--color", "never"}, 100).out, Not(HasSubstr(escape)));
    EXPECT_THAT(run_program({"list", catalog()}).out, Not(HasSubstr(escape)));
    EXPECT_THAT(run_program({"list", catalog(), "--color", "always"}).out, HasSubstr(escape));
    EXPECT_EQ(run_program({"list", catalog(), "--color", "blue"}).exit_code, 2);
}

TEST_F(TerminalTest, LongOutputGoesThroughThePager) {
    const std::string paged = "PAGER='sed s/^/PAGED/'";
    EXPECT_THAT(run_on_terminal({"list", catalog()}, 100, paged).out, HasSubstr("PAGED"));
    EXPECT_THAT(run_on_terminal({"kinds", "--help"}, 100, paged).out, HasSubstr("PAGED"));
    EXPECT_THAT(run_on_terminal({"list", catalog(), "--no-pager"}, 100, paged).out, Not(HasSubstr("PAGED")));
    EXPECT_THAT(run_on_terminal({"restore", catalog(), "--id", "91", "--to", to("out")}, 100, paged).out,
                Not(HasSubstr("PAGED")));
    EXPECT_THAT(run_program({"list", catalog()}, {.before = paged}).out, Not(HasSubstr("PAGED")));
    EXPECT_EQ(run_on_terminal({"list", catalog(), "--name", "no such"}, 100, paged).exit_code, 1);
}

TEST_F(TerminalTest, SettingsStandInAFile) {
    const auto with = [&](const std::string& settings, std::vector<std::string> more = {}) {
        test::write_text(folder_ / "config.toml", settings);
        std::vector<std::string> words = {"list", catalog(), "--id", "91"};
        words.insert(words.end(), more.begin(), more.end());
        return run_program(words, {.before = "TZ=ISL-2 DREDGER_CONFIG=" + to("config.toml")});
    };
    EXPECT_THAT(with("color = \"always\"").out, HasSubstr("\x1B["));
    EXPECT_THAT(with("color = \"always\"", {"--color", "never"}).out, Not(HasSubstr("\x1B[")));
    EXPECT_THAT(with("utc = true").out, HasSubstr("2026-10-01 13:20"));
    EXPECT_THAT(with("pager = false").out, HasSubstr("2026-10-01 15:20"));
    for (const char* wrong : {"color = \"blue\"", "pager = 1", "colour = true", "color = "}) {
        const Ran ran = with(wrong);
        EXPECT_EQ(ran.exit_code, 2) << wrong;
        EXPECT_THAT(ran.err, testing::AllOf(HasSubstr("config.toml, line 1"), HasSubstr("docs/settings.md"))) << wrong;
    }
}

TEST_F(TerminalTest, TopicsAreExplained) {
    for (const char* topic : {"selection", "prospects", "times", "exit-codes"}) {
        const Ran ran = run_program({"help", topic});
        EXPECT_EQ(ran.exit_code, 0) << topic;
        EXPECT_GT(ran.out.size(), 200U) << topic;
    }
    EXPECT_EQ(run_program({"help", "selektion"}).exit_code, 2);
    EXPECT_THAT(run_program({"help", "list"}).out, HasSubstr("--contains"));
}

TEST_F(TerminalTest, ColumnsAreHonouredInAPipe) {
    const Ran ran = run_program({"list", catalog()}, {.before = "COLUMNS=60"});
    for (const std::string& line : lines_on_terminal(ran.out)) EXPECT_LE(columns_of(line), 60U) << line;
    EXPECT_THAT(ran.out, HasSubstr("Landing places.jpg")) << "names keep their ends";
}

TEST_F(TerminalTest, TimesFollowTheClockOfTheMachine) {
    const std::string island = "TZ=ISL-2";
    EXPECT_THAT(run_program({"list", catalog(), "--id", "91"}, {.before = island}).out, HasSubstr("2026-10-01 15:20"));
    EXPECT_THAT(run_program({"list", catalog(), "--id", "91", "--utc"}, {.before = island}).out,
                HasSubstr("2026-10-01 13:20"));
    // A card's clock is shown as it was, and says so.
    EXPECT_THAT(run_program({"list", catalog(), "--id", "33"}, {.before = island}).out,
                testing::AllOf(HasSubstr("2026-05-07 05:14~"), HasSubstr("its zone is not known")));
    const auto count = [&](const std::string& modified, const std::string& id) {
        return run_program({"list", catalog(), "--id", id, "--modified", modified}, {.before = island}).exit_code;
    };
    EXPECT_EQ(count("2026-10-01T15:20", "91"), 0);
    EXPECT_EQ(count("2026-10-01T13:20", "91"), 1);
    EXPECT_EQ(count("2026-05-07T05:14", "33"), 0);
    const Ran json = run_program({"list", catalog(), "--id", "33,91", "--json"}, {.before = island});
    EXPECT_THAT(json.out, testing::AllOf(HasSubstr(R"("modified":"2026-10-01T13:20:00Z")"),
                                         HasSubstr(R"("modified":"2026-05-07T05:14:06")"),
                                         HasSubstr(R"("zoneless":["created","modified","accessed"])")));
}

TEST_F(TerminalTest, QuietSaysOnlyWhatWasAskedFor) {
    EXPECT_EQ(run_program({"scan", "-q", image_, "-c", to("q.dredge")}).out, "");
    const Ran list = run_program({"list", "-q", catalog(), "--limit", "2"});
    EXPECT_THAT(list.out, Not(HasSubstr("Shown:")));
    EXPECT_EQ(lines_on_terminal(list.out).size(), 4U) << "titles, two rows, and the end: " << list.out;
    EXPECT_EQ(run_program({"restore", "-q", catalog(), "--id", "91", "--to", to("out")}).out, "");
}

TEST_F(TerminalTest, TheLogTellsWhatWasDoneButNeverOnThePatient) {
    const std::string log = to("dredger.log");
    ASSERT_EQ(run_program({"scan", image_, "-c", to("l.dredge"), "--log", log}).exit_code, 0);
    EXPECT_THAT(test::read_text(log), testing::AllOf(HasSubstr("dredger scan"), HasSubstr("judging finds")));
    EXPECT_THAT(run_program({"scan", "-v", image_, "-c", to("v.dredge")}).err, HasSubstr("judging finds"));
    const std::string before = test::sha256_of(image_);
    for (const std::vector<std::string>& words : {std::vector<std::string>{"list", catalog()},
                                                  {"survey", image_},
                                                  {"scan", image_, "-c", to("m.dredge")},
                                                  {"picks", "show", picks()},
                                                  {"restore", catalog(), "--id", "91", "--to", to("out")},
                                                  {"image", image_, to("copy.img"), "--within", "0..1M"}}) {
        std::vector<std::string> with_log = words;
        with_log.insert(with_log.end(), {"--log", image_});
        const Ran ran = run_program(with_log);
        EXPECT_EQ(ran.exit_code, 4) << words[0];
        EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
        EXPECT_EQ(test::sha256_of(image_), before) << words[0] << " wrote its log onto the patient";
    }
    const Ran full = run_program({"list", catalog(), "--id", "91", "--log", "/dev/full"});
    EXPECT_EQ(full.err, "dredger: note: not all could be written to the log: /dev/full; check for room on the drive\n");
    EXPECT_THAT(full.out, HasSubstr("Project description.docx"));
    const Ran nowhere = run_program({"list", catalog(), "--log", "/nowhere/at/all.log"});
    EXPECT_EQ(nowhere.exit_code, 2);
    EXPECT_EQ(std::count(nowhere.err.begin(), nowhere.err.end(), '\n'), 1) << nowhere.err;
}

TEST(ProgressLine, KeepsWhatIsWorthMost) {
    constexpr std::uint64_t kGiB = std::uint64_t{1} << 30;
    const Progress progress{
        "searching free space", 3 * kGiB, 8 * kGiB, "bytes", 1234, "picture 1,100, document 120, video 14"};
    const auto at = [&](std::size_t width) { return cli::progress_text(progress, 90.0 * (1 << 20), width); };
    for (std::size_t width = 20; width < 200; ++width) EXPECT_LE(columns_of(at(width)), width) << at(width);
    EXPECT_THAT(at(60), testing::AllOf(HasSubstr("searching free space"), HasSubstr("38 %, 0:56 left"),
                                       HasSubstr("90.0 MiB/s"), Not(HasSubstr("finds"))));
    EXPECT_THAT(at(80), testing::AllOf(HasSubstr("0:56 left"), HasSubstr("90.0 MiB/s"), HasSubstr("3.0 GiB")));
    EXPECT_THAT(at(100), testing::AllOf(HasSubstr("3.0 GiB"), HasSubstr("finds 1,234")));
    EXPECT_THAT(at(132), HasSubstr("finds 1,234: picture 1,100, document 120, video 14"));
    EXPECT_THAT(at(132), HasSubstr("━"));
    EXPECT_THAT(at(40), HasSubstr("38 %"));
}

TEST(ProgressLine, TellsHoursAsHours) {
    EXPECT_THAT(cli::progress_text({"copying", 1, 7201, "bytes"}, 1.0, 100), HasSubstr("2:00:00 left"));
    EXPECT_THAT(cli::progress_text({"reading records", 12, 0, "records"}, 4.0, 100),
                HasSubstr("4 records/s  12 records"));
}

TEST(ShortenedPath, GivesItsFoldersBeforeItsName) {
    using cli::shortened_path;
    const std::string path = "Grant application 2027/Letters of support/Küstenwacht.pdf";
    EXPECT_EQ(shortened_path(path, 100), path);
    EXPECT_THAT(shortened_path(path, 40),
                testing::AllOf(testing::StartsWith("Grant"), HasSubstr("…"), testing::EndsWith("/Küstenwacht.pdf")));
    EXPECT_EQ(shortened_path(path, 18), "…/Küstenwacht.pdf");
    EXPECT_THAT(shortened_path(path, 12), testing::EndsWith(".pdf"));
    EXPECT_THAT(shortened_path("one very long folder/another/", 20), testing::EndsWith("/another/"));
    for (std::size_t most = 5; most < 60; ++most) EXPECT_LE(columns_of(shortened_path(path, most)), most);
}

TEST(Words, CanBePastedIntoAShell) {
    EXPECT_EQ(as_word("card.img"), "card.img");
    EXPECT_EQ(as_word("nest card.img"), "'nest card.img'");
    EXPECT_EQ(as_word("it's"), R"('it'\''s')");
    EXPECT_EQ(as_word(""), "''");
    EXPECT_EQ(as_word("$HOME"), "'$HOME'");
    EXPECT_EQ(cli::pasteable("dredger list 'a b.dredge' --state trashed", 30),
              "dredger list 'a b.dredge' \\\n    --state trashed");
    EXPECT_EQ(cli::pasteable("dredger list a.dredge", 80), "dredger list a.dredge");
}

TEST(WrappedLines, KeepTheirIndent) {
    EXPECT_EQ(cli::wrapped_lines("one two three four\n  five six seven eight\n", 12),
              "one two\n  three four\n  five six\n    seven\n    eight\n");
    EXPECT_EQ(cli::wrapped_lines("short\n", 80), "short\n");
}

}  // namespace
}  // namespace dredger

// The manual pages and the shells' completion, as they are installed.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <regex>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using testing::Contains;
using testing::HasSubstr;
using testing::Not;

const fs::path kManual = DREDGER_MANUAL;

using test::is_installed;
using test::Said;
using test::shell;

std::vector<std::string> lines_of(const std::string& text) {
    std::vector<std::string> lines;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);) lines.push_back(line);
    return lines;
}

std::string page(const std::string& name) {
    const std::string read = shell("mandoc -T ascii '" + (kManual / "man" / name).string() + "' | col -b").out;
    return std::regex_replace(read, std::regex("\\s+"), " ");
}

TEST(ManualTest, PagesAreRightForEveryFormatter) {
    if (!is_installed("mandoc")) GTEST_SKIP() << "mandoc is not installed";
    std::size_t pages = 0;
    for (const auto& entry : fs::directory_iterator(kManual / "man")) {
        const Said said = shell("mandoc -T lint -W warning '" + entry.path().string() + "'");
        EXPECT_EQ(said.exit_code, 0) << said.out;
        ++pages;
    }
    EXPECT_GE(pages, 24U);
}

TEST(ManualTest, EveryCommandHasAPageWithAllThatItsHelpSays) {
    if (!is_installed("mandoc") || !is_installed("col")) GTEST_SKIP() << "mandoc or col is not installed";
    const auto squeezed = [](const std::string& text) {
        return std::regex_replace(text, std::regex("[\\s]+"), std::string(" "));
    };
    for (const char* command : {"scan", "restore", "mount", "config", "picks add"}) {
        std::vector<std::string> words;
        std::istringstream names{std::string(command)};
        for (std::string name; names >> name;) words.push_back(name);
        words.emplace_back("--help");
        const std::string help = squeezed(test::run_program(words, {.before = "COLUMNS=400"}).out);
        std::string file = std::string("dredger-") + command + ".1";
        std::replace(file.begin(), file.end(), ' ', '-');
        const std::string text = page(file);
        std::size_t options = 0;
        const std::regex option(" (--[a-z-]+)[ ,]");
        for (std::sregex_iterator at(help.begin(), help.end(), option), end; at != end; ++at, ++options)
            EXPECT_THAT(text, HasSubstr((*at)[1].str())) << command;
        EXPECT_GT(options, 5U);
    }
    EXPECT_THAT(page("dredger-mount.1"), HasSubstr("zeros"));
    EXPECT_THAT(page("dredger.1"),
                testing::AllOf(HasSubstr("EXIT CODES"), HasSubstr("130"), HasSubstr("XDG_CONFIG_HOME")));
    EXPECT_THAT(page("dredger-picks.1"), HasSubstr("dredger-picks-add(1)"));
    EXPECT_THAT(page("dredger-catalog.5"), HasSubstr("application_id"));
    EXPECT_THAT(page("dredger.7"), HasSubstr("stop using the drive"));
}

class CompletionTest : public testing::Test {
  protected:
    // What bash offers for the last of these words; the others are whole.
    std::vector<std::string> offered(const std::vector<std::string>& words) {
        std::string all;
        for (const std::string& word : words) all += " '" + word + "'";
        const Said said =
            shell("cd '" + folder_.path().string() + "'; bash -c '. \"" + (kManual / "completion/dredger").string() +
                  "\"; COMP_WORDS=(\"$@\"); COMP_CWORD=$(($# - 1)); _dredger; "
                  "[ ${#COMPREPLY[@]} -eq 0 ] || printf \"%s\\n\" \"${COMPREPLY[@]}\"' bash dredger" +
                  all);
        EXPECT_EQ(said.exit_code, 0) << said.out;
        return lines_of(said.out);
    }
    void SetUp() override {
        test::write_text(folder_ / "card of nests.dredge", "");
        test::write_text(folder_ / "card.img", "");
        fs::create_directories(folder_ / "rescue");
    }
    test::TempFolder folder_;
};

TEST_F(CompletionTest, BashKnowsCommandsOptionsWordsAndCatalogs) {
    using Words = std::vector<std::string>;
    EXPECT_EQ(offered({"re"}), (Words{"restore", "repair", "report"}));
    EXPECT_EQ(offered({"help", "sel"}), Words{"selection"});
    EXPECT_EQ(offered({"picks", ""}), (Words{"add", "remove", "show", "check"}));
    EXPECT_THAT(offered({"scan", "--jo"}), Contains("--join"));
    EXPECT_THAT(offered({"list", "--"}),
                testing::AllOf(Contains("--kind"), Contains("--limit"), Not(Contains("--deep"))));
    EXPECT_THAT(offered({"picks", "add", "--pro"}), Contains("--prospect"));
    EXPECT_EQ(offered({"restore", "--layout", ""}), (Words{"tree", "kind", "date", "flat"}));
    EXPECT_EQ(offered({"restore", "--layout", "=", "f"}), Words{"flat"});
    EXPECT_EQ(offered({"list", "--state", "live,t"}), Words{"live\\,trashed"});
    EXPECT_EQ(offered({"list", "--role", "own"}), Words{"owner\\ note"});
    EXPECT_EQ(offered({"list", "c"}), Words{"card of nests.dredge"});
    EXPECT_EQ(offered({"scan", "c"}).size(), 2U) << "any file is a source";
    EXPECT_EQ(offered({"scan", "-c", "card"}), Words{"card of nests.dredge"});
    EXPECT_EQ(offered({"restore", "--to", "r"}), Words{"rescue"});
    EXPECT_EQ(offered({"list", "--id", ""}), Words{});
}

TEST_F(CompletionTest, FishCompletesTheSame) {
    if (!is_installed("fish")) GTEST_SKIP() << "fish is not installed";
    const auto fish = [&](const std::string& line) {
        return shell("cd '" + folder_.path().string() + "'; HOME=. XDG_CONFIG_HOME=. fish -c 'source \"" +
                     (kManual / "completion/dredger.fish").string() + "\"; complete -C \"" + line + "\"'")
            .out;
    };
    EXPECT_THAT(fish("dredger sur"), HasSubstr("survey\tShow drives"));
    EXPECT_THAT(fish("dredger scan --jo"), HasSubstr("--join\t"));
    EXPECT_THAT(fish("dredger scan --join th"), HasSubstr("thorough"));
    EXPECT_THAT(fish("dredger picks a"), HasSubstr("add\tAdd finds"));
    EXPECT_THAT(fish("dredger picks add --pro"), HasSubstr("--prospect"));
    EXPECT_THAT(fish("dredger list --state live,tr"), HasSubstr("live,trashed"));
    EXPECT_THAT(fish("dredger list c"), HasSubstr("nests.dredge"));
    EXPECT_THAT(fish("dredger list --de"), Not(HasSubstr("--deep")));
}

TEST_F(CompletionTest, ScriptsAreRightForTheirShells) {
    for (const auto& [name, file] : {std::pair("bash", "dredger"), {"zsh", "_dredger"}, {"fish", "dredger.fish"}}) {
        if (!is_installed(name)) continue;
        const Said said = shell(std::string(name) + " -n '" + (kManual / "completion" / file).string() + "'");
        EXPECT_EQ(said.exit_code, 0) << said.out;
    }
}

// zsh on a terminal of its own, with a Tab pressed.
TEST_F(CompletionTest, ZshOffersWords) {
    if (!is_installed("zsh")) GTEST_SKIP() << "zsh is not installed";
    const std::string script = R"zsh(
zmodload zsh/zpty
zpty z 'TERM=dumb zsh -f -i'
said=
await() {  # until it said this; a minute at most
    local line n
    for ((n = 0; n < 600; ++n)); do
        while zpty -r -t z line; do said+=$line; done
        [[ $said == *$1* ]] && return
        sleep 0.1
    done
}
zpty -w z "fpath=($1 \$fpath); autoload -U compinit; compinit -u -D; PROMPT=re''ady"
await ready
zpty -w -n z $'dredger scan --join thor\t'
await thorough
print -r -- $said
zpty -d z
)zsh";
    test::write_text(folder_ / "press.zsh", script);
    const Said said = shell("cd '" + folder_.path().string() + "'; HOME=. zsh -f press.zsh '" +
                            (kManual / "completion").string() + "'");
    EXPECT_THAT(said.out, HasSubstr("--join thorough"));
}

}  // namespace
}  // namespace dredger

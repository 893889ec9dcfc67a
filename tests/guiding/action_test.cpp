#include "guiding/action.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace dredger::guiding {
namespace {

using What = Action::What;

TEST(Action, TakesNumbersHoweverTheyAreTyped) {
    for (const auto& [typed, numbers] : {std::pair("7", "7"), std::pair("7,12-40", "7,12-40"),
                                         std::pair("7 12", "7,12"), std::pair("7, 12", "7,12")}) {
        const auto action = parse_action(typed);
        ASSERT_TRUE(action) << typed;
        EXPECT_EQ(action->what, What::take);
        EXPECT_EQ(action->numbers, numbers);
    }
}

TEST(Action, KnowsItsLetters) {
    for (const auto& [typed, what] :
         {std::pair("all", What::take_all), std::pair("m", What::more), std::pair("v", What::lives),
          std::pair("d", What::surface), std::pair("w", What::ask_anew), std::pair("f", What::finish)}) {
        const auto action = parse_action(typed);
        ASSERT_TRUE(action) << typed;
        EXPECT_EQ(action->what, what) << typed;
    }
    for (const char* typed : {"s 12", "s12"}) {
        const auto action = parse_action(typed);
        ASSERT_TRUE(action) << typed;
        EXPECT_EQ(action->what, What::show);
        EXPECT_EQ(action->numbers, "12");
    }
}

TEST(Action, SaysWhatIsWrong) {
    EXPECT_THAT(parse_action("s").error().line(), testing::HasSubstr("s 12"));
    EXPECT_THAT(parse_action("s seven").error().line(), testing::HasSubstr("s 12"));
    for (const char* typed : {"x", "7-", "12--14", "all of them", "-1", "7;8", ""})
        EXPECT_FALSE(parse_action(typed)) << typed;
}

TEST(Action, ItsLinesFitATerminal) {
    for (const std::string& line : action_lines()) EXPECT_LE(line.size() + 2, 80U) << line;
}

}  // namespace
}  // namespace dredger::guiding

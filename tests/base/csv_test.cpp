#include "base/csv.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace dredger {
namespace {

using testing::ElementsAre;

TEST(Csv, RowsComeBackAsTheyWere) {
    const std::vector<std::string> row = {"plain", "with, comma", "with \"quotes\"", "two\r\nlines", "semi;colon", ""};
    const auto table = read_csv(csv_row({"a", "b", "c", "d", "e", "f"}) + csv_row(row));
    ASSERT_TRUE(table);
    EXPECT_EQ(table->rows.front().fields, row);
}

TEST(Csv, KnowsOnWhichLineEachRowBegins) {
    const auto table = read_csv("id,note\r\n1,\"two\r\nlines\"\r\n\r\n2,last");
    ASSERT_TRUE(table);
    ASSERT_EQ(table->rows.size(), 2U);
    EXPECT_EQ(table->rows[0].line, 2U);
    EXPECT_EQ(table->rows[1].line, 5U);
    EXPECT_EQ(table->field(table->rows[1], "note"), "last");
    EXPECT_EQ(table->field(table->rows[1], "none"), "");
}

TEST(Csv, TakesWhatSpreadsheetsWrite) {
    for (const char* text : {"\xEF\xBB\xBF"
                             "id;note\n1;\"a;b\"\n",
                             "id\tnote\r\n1\ta;b\r\n", "id,note\n1,a;b\n"}) {
        const auto table = read_csv(text);
        ASSERT_TRUE(table) << text;
        EXPECT_THAT(table->columns, ElementsAre("id", "note")) << text;
        EXPECT_THAT(table->rows.front().fields, ElementsAre("1", "a;b")) << text;
    }
    EXPECT_FALSE(read_csv(""));
    EXPECT_FALSE(read_csv("id,note\n1,\"never closed"));
}

}  // namespace
}  // namespace dredger

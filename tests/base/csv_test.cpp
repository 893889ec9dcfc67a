#include "base/csv.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <random>

namespace dredger {
namespace {

using testing::ElementsAre;

TEST(Csv, RowsComeBackAsTheyWere) {
    const std::vector<std::string> row = {"plain", "with, comma", "with \"quotes\"", "two\r\nlines", "semi;colon", ""};
    const auto table = read_csv(csv_row({"a", "b", "c", "d", "e", "f"}) + csv_row(row));
    ASSERT_TRUE(table);
    EXPECT_EQ(table->rows.front().fields, row);
}

// Names may hold anything: whatever is written is read again, as long as it is UTF-8.
TEST(Csv, AnyFieldsComeBackAsTheyWere) {
    std::minstd_rand chance(8);
    constexpr std::string_view kPieces[] = {" ", "\t", ",",   ";",    "\"", "\r\n", "\n", "\r",
                                            "a", "é",  "%0A", "\x01", "'",  "=",    "-",  "@"};
    const std::vector<std::string> columns = {"a", "b", "c"};
    for (int n = 0; n < 3000; ++n) {
        std::vector<std::string> row(columns.size());
        for (std::string& field : row)
            for (auto left = chance() % 5; left > 0; --left) field += kPieces[chance() % std::size(kPieces)];
        if (row.front().empty()) row.front() = "not an empty line";
        const auto table = read_csv(csv_row(columns) + csv_row(row));
        ASSERT_TRUE(table) << testing::PrintToString(row);
        ASSERT_EQ(table->rows.size(), 1U) << testing::PrintToString(row);
        ASSERT_EQ(table->rows.front().fields, row);
    }
}

TEST(Csv, CantStartAFormula) {
    EXPECT_EQ(csv_row({"=1+1", "@sum", "-1", "a=b", "-", "'+x"}), "'=1+1,'@sum,'-1,a=b,-,''+x\r\n");
}

TEST(Csv, IsUtf8WhateverTheFieldsAre) { EXPECT_EQ(csv_row({"caf\xE9.txt"}), "caf\xEF\xBF\xBD.txt\r\n"); }

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

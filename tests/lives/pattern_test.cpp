#include "lives/pattern.h"

#include <gtest/gtest.h>

namespace dredger::lives {
namespace {

TEST(NamePattern, TellsTheDocumentsName) {
    EXPECT_EQ(Pattern(".~lock.{name}#").match(".~lock.Ring list.odt#")->name, "Ring list.odt");
    EXPECT_EQ(Pattern("{stem}.BAK").match("plan.bak")->stem, "plan");
    EXPECT_EQ(Pattern("~${tail}").match("~$rmit.docx")->tail, "rmit.docx");
    EXPECT_EQ(Pattern("{name}.~{n}~").match("a.txt.~12~")->name, "a.txt");
    EXPECT_EQ(Pattern("{stem}((*-{x})).*").match("Ring list((Autosaved-3A5)).xlsb")->stem, "Ring list");
    EXPECT_EQ(Pattern("{ending}.asd").match("AutoRecovery save of Ring list.asd")->ending,
              "AutoRecovery save of Ring list");
    EXPECT_FALSE(Pattern("{name}~").match("~"));
    EXPECT_FALSE(Pattern("{name}.~{n}~").match("a.txt.~x~"));
    EXPECT_TRUE(Pattern("{hex}").match("0A1B2C3D"));
    EXPECT_FALSE(Pattern("{hex}").match("0A1B2C3D4"));
    EXPECT_FALSE(Pattern("{hex}").match("Makefile"));
}

TEST(NamePattern, TellsFoldersAndTimes) {
    const auto history = Pattern("FileHistory/*/Data/*/{path}").match("FileHistory/wren/HUT-PC/Data/C/Users/wren/Logs");
    ASSERT_TRUE(history);
    EXPECT_EQ(history->path, "Users/wren/Logs");
    const auto file = Pattern("{stem} ({date}).*").match("Ring list (2026_05_02 09_14_00 UTC).xlsx");
    ASSERT_TRUE(file && file->date);
    EXPECT_EQ(file->stem, "Ring list");
    EXPECT_EQ(iso8601(*file->date), "2026-05-02T09:14:00Z");
    const auto backup = Pattern("*backup*{date}/{path}").match("Our Backup 2026-05-01/Nests/Ledge 2");
    ASSERT_TRUE(backup && backup->date);
    EXPECT_EQ(backup->path, "Nests/Ledge 2");
    EXPECT_EQ(iso8601(*backup->date), "2026-05-01T00:00:00");
}

TEST(NamePattern, DatesAreReadHoweverTheyAreWritten) {
    for (const char* text : {"2026-05-02-091400", "20260502091400", "2026_05_02 09_14_00", "2026-05-02T09:14:00",
                             "20260502-091400", "2026.05.02 09.14.00"}) {
        const auto date = date_at_start(text);
        ASSERT_TRUE(date) << text;
        EXPECT_EQ(iso8601(date->time), "2026-05-02T09:14:00") << text;
        EXPECT_EQ(date->length, std::string_view(text).size()) << text;
    }
    EXPECT_EQ(date_at_start("2026-05-02")->length, 10U);
    EXPECT_EQ(date_at_start("20260502 rest")->length, 8U);
    EXPECT_EQ(date_at_start("2026-05-02 UTC")->time.clock, FileTime::Clock::utc);
    for (const char* text : {"2026-13-02", "2026-02-31", "1812-05-02", "202605021", "2026-05", "May 2026", "99999999"})
        EXPECT_FALSE(date_at_start(text)) << text;
}

// A name that fits in no way is given up soon, however many ways there are to try.
TEST(NamePattern, HostileNamesCostLittle) {
    const Pattern pattern("*((*-{x}))*(({x}-*))*");
    const std::string hostile(240, '(');
    for (int n = 0; n < 200; ++n) EXPECT_FALSE(pattern.match(hostile + "-" + std::string(n, '-')));
}

}  // namespace
}  // namespace dredger::lives

#include "guiding/rescue.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger::guiding {
namespace {

namespace fs = std::filesystem;

class RescueTest : public testing::Test {
  protected:
    Rescue begun() const {
        Rescue rescue;
        rescue.patient = rescue.source = "/dev/sdb";
        rescue.wanted = {{Kind::picture}, "puffin", "2026-05"};
        return rescue;
    }
    test::TempFolder folder_;
};

TEST_F(RescueTest, GoesOnWhereItWasLeft) {
    Rescue rescue = begun();
    ASSERT_TRUE(rescue.settle(folder_.path()));
    EXPECT_TRUE(rescue.folder.filename().string().starts_with("rescue-sdb-"));
    const auto again = read_rescue(rescue.folder);
    ASSERT_TRUE(again);
    EXPECT_EQ(again->patient, "/dev/sdb");
    EXPECT_EQ(again->wanted, rescue.wanted);
    EXPECT_EQ(again->begun, rescue.begun);
    EXPECT_FALSE(again->is_done);
    EXPECT_FALSE(again->has_searched);
}

TEST_F(RescueTest, NeverTakesAFolderThatIsThere) {
    Rescue first = begun(), second = begun();
    ASSERT_TRUE(first.settle(folder_.path()));
    ASSERT_TRUE(second.settle(folder_.path()));
    EXPECT_NE(first.folder, second.folder);
}

TEST_F(RescueTest, FoldersHaveNamesThatEveryFileSystemTakes) {
    Rescue rescue = begun();
    rescue.patient = "/home/runa/Küsten: Karte?.img";
    ASSERT_TRUE(rescue.settle(folder_.path()));
    const std::string name = rescue.folder.filename().string();
    EXPECT_EQ(name.find_first_of(":?* /\\\"<>|"), name.npos) << name;
}

TEST_F(RescueTest, FindsThoseThatDidNotEndTheLastOneFirst) {
    Rescue old = begun(), done = begun(), late = begun();
    ASSERT_TRUE(old.settle(folder_.path()));
    ASSERT_TRUE(done.settle(folder_.path()));
    ASSERT_TRUE(late.settle(folder_.path()));
    old.begun = "2026-01-01 10:00";
    late.begun = "2026-06-01 10:00";
    done.is_done = true;
    for (const Rescue* one : {&old, &done, &late}) ASSERT_TRUE(one->save());
    fs::create_directory(folder_ / "rescue-of-nothing");
    test::write_text(folder_ / "rescue-of-nothing" / "rescue.json", "{\"patient\": 7}");
    const auto found = unfinished_in({folder_.path(), folder_.path(), folder_ / "missing"});
    ASSERT_EQ(found.size(), 2U) << "each once, whole ones only";
    EXPECT_EQ(found[0].folder, late.folder);
    EXPECT_EQ(found[1].folder, old.folder);
}

TEST_F(RescueTest, WhatCannotBeUnderstoodIsNoRescue) {
    const fs::path file = folder_ / "rescue.json";
    for (const char* text : {"", "[]", "{", "{\"patient\":\"a\"}",
                             "{\"patient\":\"a\",\"source\":\"a\",\"wanted\":7,\"begun\":\"\",\"searched\":false,"
                             "\"done\":false}"}) {
        test::write_text(file, text);
        EXPECT_FALSE(read_rescue(folder_.path())) << text;
    }
    test::write_text(file,
                     "{\"patient\":\"a\",\"source\":\"a\",\"wanted\":{\"kinds\":[\"picture\",\"nonsense\"],\"name\":"
                     "\"\",\"changed\":\"whenever\"},\"begun\":\"\",\"searched\":false,\"done\":false}");
    const auto read = read_rescue(folder_.path());
    ASSERT_TRUE(read);
    EXPECT_EQ(read->wanted, (Wanted{{Kind::picture}, "", ""})) << "what is no kind and no time is left out";
}

TEST_F(RescueTest, KeepsItsCommands) {
    Rescue rescue = begun();
    rescue.remember("dredger survey");  // it has no folder yet
    ASSERT_TRUE(rescue.settle(folder_.path()));
    rescue.remember("dredger scan /dev/sdb");
    rescue.remember("dredger list finds.dredge");
    const std::string text = test::read_text(rescue.commands());
    EXPECT_THAT(text, testing::HasSubstr("dredger scan /dev/sdb\n"));
    EXPECT_EQ(std::count(text.begin(), text.end(), '\n'), 2);
}

TEST_F(RescueTest, AFolderThatCannotBeMadeIsSaid) {
    test::write_text(folder_ / "file", "");
    Rescue rescue = begun();
    const auto settled = rescue.settle(folder_ / "file");
    ASSERT_FALSE(settled);
    EXPECT_THAT(settled.error().line(), testing::HasSubstr("choose another place"));
}

}  // namespace
}  // namespace dredger::guiding

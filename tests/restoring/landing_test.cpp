#include "restoring/landing.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using test::TempFolder;
using testing::HasSubstr;
using How = Landed::How;

Candidate photo() {
    Candidate c;
    c.id = 41;
    c.kind = Kind::picture;
    c.format = "jpeg";
    c.prospect.value = 93;
    c.record.folder = "DCIM/100NESTS";
    c.record.name = "NEST 0004.JPG";
    c.record.modified = FileTime{1'778'000'000, 0, {}};  // 2026-05-05
    return c;
}

std::string named(const char* pattern, const Candidate& c, const Description* said = nullptr) {
    const auto parsed = Pattern::parse(pattern);
    EXPECT_TRUE(parsed) << parsed.error().line();
    return parsed->path_for({&c, said, "RINGCARD", 7});
}

TEST(Pattern, FillsItsFields) {
    const Candidate c = photo();
    Description said{
        "Puffin at nest 4", FileTime{1'777'900'000, 0, {}}, {{"camera", "Larus/2"}, {"artist", "M. Holm"}}};
    EXPECT_EQ(named("{taken:%Y-%m-%d} {camera} {number:4}", c, &said), "2026-05-04 Larus_2 0007.JPG");
    EXPECT_EQ(named("{stem} ({id}).{ext}", c), "NEST 0004 (41).JPG");
    EXPECT_EQ(named("{volume}/{kind}/{format}/{prospect} {name}", c), "RINGCARD/picture/jpeg/93 NEST 0004.JPG");
    EXPECT_EQ(named("{folder}/{title} by {artist}", c, &said), "DCIM/100NESTS/Puffin at nest 4 by M. Holm.JPG");
    EXPECT_EQ(named("{modified:%Y/%m}/{id:6}", c), "2026/05/000041.JPG");
    EXPECT_EQ(named("plain", c), "plain.JPG");
}

TEST(Pattern, LeavesOutWhatNothingIsKnownOf) {
    const Candidate c = photo();
    EXPECT_EQ(named("{camera}/{taken}/{name}", c), "NEST 0004.JPG");
    EXPECT_EQ(named("{taken|modified:%Y} {camera} {number}", c), "2026  7.JPG");
    EXPECT_EQ(named("{camera}", c), "NEST 0004.JPG");
    EXPECT_EQ(named("{kind}/", c), "picture/NEST 0004.JPG");
}

TEST(Pattern, IsCheckedBeforeAnythingIsWritten) {
    for (const char* wrong : {"", "{nest}", "{name", "name}", "{name:4}", "{id:wide}", "{taken:year}", "{id:123}"}) {
        const auto parsed = Pattern::parse(wrong);
        ASSERT_FALSE(parsed) << wrong;
        EXPECT_EQ(parsed.error().kind, ErrorKind::usage);
        EXPECT_THAT(parsed.error().line(), HasSubstr("--rename"));
    }
    EXPECT_TRUE(Pattern::parse("{taken}")->asks_content());
    EXPECT_FALSE(Pattern::parse("{modified} {name}")->asks_content());
}

TEST(Landing, ArrangesByTreeKindDateOrFlat) {
    const Candidate c = photo();
    const NameFacts facts{&c, nullptr, "RINGCARD", 1};
    const auto wanted = [&](Arrangement a) { return Landing::wanted(facts, a, nullptr, kUnixNames).generic_string(); };
    EXPECT_EQ(wanted(Arrangement::tree), "DCIM/100NESTS/NEST 0004.JPG");
    EXPECT_EQ(wanted(Arrangement::kind), "picture/jpeg/NEST 0004.JPG");
    EXPECT_EQ(wanted(Arrangement::date), "2026/05/NEST 0004.JPG");
    EXPECT_EQ(wanted(Arrangement::flat), "NEST 0004.JPG");
    Candidate bare = c;
    bare.record.modified.reset();
    bare.format.clear();
    const NameFacts none{&bare, nullptr, "", 1};
    EXPECT_EQ(Landing::wanted(none, Arrangement::date, nullptr, kUnixNames), fs::path("undated/NEST 0004.JPG"));
    EXPECT_EQ(Landing::wanted(none, Arrangement::kind, nullptr, kUnixNames),
              fs::path("picture/unknown format/NEST 0004.JPG"));
}

Arrival arrival(std::int64_t id, const char* wanted, std::int64_t modified, const char* sum, Standing standing) {
    return {"card.dredge", id, wanted, FileTime{modified, 0, {}}, sum, standing, {}};
}

TEST(Landing, TakenNamesAreNumbered) {
    const TempFolder folder;
    test::write_text(folder / "a.txt", "");
    test::write_text(folder / "a (2).txt", "");
    Landing landing(folder.path(), kUnixNames, IfExists::number, nullptr);
    EXPECT_EQ(landing.settle(arrival(1, "a.txt", 0, "x", {})).place, fs::path("a (3).txt"));
    EXPECT_EQ(landing.settle(arrival(2, "a.txt", 0, "x", {})).place, fs::path("a (4).txt"));
    EXPECT_EQ(landing.settle(arrival(3, "b.txt", 0, "x", {})).place, fs::path("b.txt"));
    EXPECT_EQ(landing.settle(arrival(4, "B.txt", 0, "x", {})).place, fs::path("B.txt"));
    Landing windows(folder.path(), kWindowsNames, IfExists::number, nullptr);
    windows.settle(arrival(5, "c.txt", 0, "x", {}));
    EXPECT_EQ(windows.settle(arrival(6, "C.TXT", 0, "x", {})).place, fs::path("C (2).TXT"));
}

// What a power cut leaves under a name: the first bytes, and zeros or nothing for the rest.
TEST(Landing, WhatAPowerCutLeftIsReplacedAndNothingElse) {
    const TempFolder folder;
    const std::string content(2000, 'n'), other = "somebody's own";
    test::write_text(folder / "staged", content);
    test::write_text(folder / "empty.txt", "");
    test::write_text(folder / "cut.txt", content.substr(0, 700));
    test::write_text(folder / "zeros.txt", content.substr(0, 512) + std::string(1488, '\0'));
    test::write_text(folder / "other.txt", other);
    test::write_text(folder / "longer.txt", content + "more");
    test::write_text(folder / "half.txt", content.substr(0, 600) + std::string(1400, '\0'));
    fs::create_symlink(folder / "other.txt", folder / "link.txt");
    const auto place = [&](const char* name, bool was_cut_off) {
        Landing landing(folder.path(), kUnixNames, IfExists::number, nullptr, was_cut_off);
        Arrival one = arrival(1, name, 0, "x", {});
        one.staged = folder / "staged";
        return landing.settle(one).place.string();
    };
    for (const char* name : {"empty.txt", "cut.txt", "zeros.txt"}) {
        EXPECT_EQ(place(name, true), name);
        EXPECT_NE(place(name, false), name) << "nothing was cut off: it is somebody's";
    }
    for (const char* name : {"other.txt", "longer.txt", "half.txt", "link.txt"}) EXPECT_NE(place(name, true), name);
}

// On a medium a name can be that of a file and, later, of a folder.
TEST(Landing, AFolderWhoseNameAFileHasIsNumbered) {
    const TempFolder folder;
    test::write_text(folder / "logs", "somebody's own");
    fs::create_directory(folder / "nests");
    Landing landing(folder.path(), kUnixNames, IfExists::number, nullptr);
    EXPECT_EQ(landing.folder_for("logs"), fs::path("logs (2)"));
    EXPECT_EQ(landing.settle(arrival(1, "logs/May/a.csv", 0, "x", {})).place, fs::path("logs (2)/May/a.csv"));
    EXPECT_EQ(landing.settle(arrival(2, "nests/a.csv", 0, "x", {})).place, fs::path("nests/a.csv"));
    EXPECT_EQ(landing.settle(arrival(3, "maps", 0, "x", {})).place, fs::path("maps"));
    EXPECT_EQ(landing.settle(arrival(4, "maps/north.png", 0, "x", {})).place, fs::path("maps (2)/north.png"));
    EXPECT_EQ(landing.settle(arrival(5, "maps/south.png", 0, "x", {})).place, fs::path("maps (2)/south.png"));
    EXPECT_EQ(landing.settle(arrival(6, "nests", 0, "x", {})).place, fs::path("nests (2)"));
}

TEST(Landing, MakesFoldersOnceAndKnowsWhatLiesInThoseThatWereThere) {
    const TempFolder folder;
    fs::create_directory(folder / "old");
    test::write_text(folder / "old/a.txt", "");
    Landing landing(folder.path(), kUnixNames, IfExists::number, nullptr);
    EXPECT_FALSE(landing.make_folder("old"));
    EXPECT_FALSE(landing.make_folder("new/within"));
    EXPECT_FALSE(landing.make_folder("new/within"));
    EXPECT_TRUE(fs::is_directory(folder / "new/within"));
    EXPECT_EQ(landing.settle(arrival(1, "old/a.txt", 0, "x", {})).place, fs::path("old/a (2).txt"));
    EXPECT_EQ(landing.settle(arrival(2, "new/within/a.txt", 0, "x", {})).place, fs::path("new/within/a.txt"));
    EXPECT_EQ(landing.settle(arrival(3, "new/within/a.txt", 0, "x", {})).place, fs::path("new/within/a (2).txt"));
    test::write_text(folder / "file", "");
    EXPECT_TRUE(landing.make_folder("file/below"));
}

TEST(Landing, TheBestStaysAndTheSameContentComesOnce) {
    const TempFolder folder;
    Landing landing(folder.path(), kUnixNames, IfExists::best, nullptr);
    EXPECT_EQ(landing.settle(arrival(1, "a.jpg", 5, "one", {2, 2, 60, 900})).how, How::free);
    EXPECT_EQ(landing.settle(arrival(2, "a.jpg", 5, "one", {2, 2, 60, 900})).why, "the same content is there already");
    EXPECT_THAT(landing.settle(arrival(3, "a.jpg", 9, "two", {1, 4, 99, 900})).why, HasSubstr("came back better"));
    const Landed better = landing.settle(arrival(4, "a.jpg", 1, "three", {3, 4, 95, 900}));
    EXPECT_EQ(better.how, How::replacing);
    EXPECT_EQ(better.loser->second, 1);
    test::write_text(folder / "b.jpg", "somebody's own");
    EXPECT_EQ(landing.settle(arrival(5, "b.jpg", 1, "x", {3, 4, 99, 9})).place, fs::path("b (2).jpg"));
}

TEST(Landing, TheNewestStays) {
    const TempFolder folder;
    Landing landing(folder.path(), kUnixNames, IfExists::newer, nullptr);
    EXPECT_EQ(landing.settle(arrival(1, "a.jpg", 50, "one", {})).how, How::free);
    EXPECT_EQ(landing.settle(arrival(2, "a.jpg", 40, "two", {})).how, How::refused);
    EXPECT_EQ(landing.settle(arrival(3, "a.jpg", 60, "three", {})).how, How::replacing);
    test::write_text(folder / "b.jpg", "written just now");
    EXPECT_EQ(landing.settle(arrival(4, "b.jpg", 1'000, "x", {})).how, How::refused);
    EXPECT_EQ(landing.settle(arrival(5, "b.jpg", 99'000'000'000, "x", {})).how, How::replacing);
}

}  // namespace
}  // namespace dredger

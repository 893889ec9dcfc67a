#include "bins/bins.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "bins/contents.h"
#include "media/window.h"
#include "support/walked.h"

namespace dredger {
namespace {

using testing::Contains;
using testing::HasSubstr;

constexpr const char* kBin = "$RECYCLE.BIN/S-1-5-21-1-2-3-1001";

// Index files and their content on one medium.
class BinsTest : public testing::Test {
  protected:
    void add_index(const std::string& path, State state, const std::vector<std::byte>& content) {
        Record record = at(path, state);
        record.size = content.size();
        record.layout.extents = {{bytes_.size(), content.size()}};
        bytes_.insert(bytes_.end(), content.begin(), content.end());
        indexes_.push_back(record);
    }
    static Record at(const std::string& path, State state) {
        Record record;
        const std::size_t slash = path.rfind('/');
        record.folder = slash == std::string::npos ? "" : path.substr(0, slash);
        record.name = path.substr(slash + 1);
        record.state = state;
        return record;
    }
    Bins learnt() {
        Bins bins;
        const auto medium = std::make_shared<test::MemoryMedium>(bytes_);
        for (const Record& record : indexes_) bins.learn(record, medium);
        return bins;
    }
    static std::vector<std::byte> index_file(std::uint64_t version, const std::u16string& original, std::uint64_t size,
                                             std::uint64_t deleted = 133'000'000'000'000'000) {
        std::vector<std::byte> out;
        const auto put = [&](const void* from, std::size_t length) {
            const auto* p = static_cast<const std::byte*>(from);
            out.insert(out.end(), p, p + length);
        };
        put(&version, 8);
        put(&size, 8);
        put(&deleted, 8);
        const auto units = static_cast<std::uint32_t>(original.size() + 1);
        if (version == 2) put(&units, 4);
        put(original.c_str(), units * 2U);
        if (version == 1) out.resize(544);
        return out;
    }

    std::vector<std::byte> bytes_;
    std::vector<Record> indexes_;
};

TEST_F(BinsTest, BothVersionsOfIndexFilesTellThePlaceBefore) {
    add_index(std::string(kBin) + "/$IA1B2C3.csv", State::live, index_file(1, u"E:\\Logs\\terns.csv", 5));
    add_index(std::string(kBin) + "/$ID4E5F6.csv", State::live, index_file(2, u"E:\\Logs\\Küken 鳥.csv", 5));
    const Bins bins = learnt();
    Record old = at(std::string(kBin) + "/$RA1B2C3.csv", State::trashed);
    ASSERT_TRUE(bins.settle(old));
    EXPECT_EQ(old.path(), "Logs/terns.csv");
    EXPECT_EQ(iso8601(old.deleted.value()), "2022-06-18T04:26:40Z");
    EXPECT_THAT(old.facts, Contains(Fact{"original place", "E:\\Logs\\terns.csv"}));
    EXPECT_THAT(old.facts, Contains(Fact{"account", "S-1-5-21-1-2-3-1001"}));
    Record newer = at(std::string(kBin) + "/$RD4E5F6.csv", State::trashed);
    ASSERT_TRUE(bins.settle(newer));
    EXPECT_EQ(newer.path(), "Logs/Küken 鳥.csv");
}

TEST_F(BinsTest, AFolderCarriesItsTree) {
    add_index(std::string(kBin) + "/$IA1B2C3", State::live, index_file(2, u"E:\\Logs\\Colony", 0));
    Record deep = at(std::string(kBin) + "/$RA1B2C3/Deep/west.csv", State::trashed);
    ASSERT_TRUE(learnt().settle(deep));
    EXPECT_EQ(deep.path(), "Logs/Colony/Deep/west.csv");
}

TEST_F(BinsTest, AStreamStaysWithItsFile) {
    add_index(std::string(kBin) + "/$IA1B2C3.csv", State::live, index_file(2, u"E:\\Logs\\terns.csv", 5));
    Record stream = at(std::string(kBin) + "/$RA1B2C3.csv;Zone.Identifier", State::trashed);
    ASSERT_TRUE(learnt().settle(stream));
    EXPECT_EQ(stream.path(), "Logs/terns.csv;Zone.Identifier");
}

TEST_F(BinsTest, AnEmptiedBinStillTells) {
    add_index(std::string(kBin) + "/$IA1B2C3.csv", State::deleted, index_file(2, u"\\\\server\\share\\terns.csv", 5));
    Record gone = at(std::string(kBin) + "/$RA1B2C3.csv", State::deleted);
    ASSERT_TRUE(learnt().settle(gone));
    EXPECT_EQ(gone.path(), "server/share/terns.csv");
    EXPECT_EQ(gone.state, State::deleted);
}

TEST_F(BinsTest, OfTwoNotesForOneNameTheOneThatFitsCounts) {
    const std::string index = std::string(kBin) + "/$IA1B2C3.csv";
    add_index(index, State::deleted, index_file(2, u"E:\\first.csv", 100));
    add_index(index, State::live, index_file(2, u"E:\\second.csv", 200));
    const Bins bins = learnt();
    Record live = at(std::string(kBin) + "/$RA1B2C3.csv", State::trashed);
    live.size = 200;
    ASSERT_TRUE(bins.settle(live));
    EXPECT_EQ(live.path(), "second.csv");
    Record gone = at(std::string(kBin) + "/$RA1B2C3.csv", State::deleted);
    gone.size = 100;
    ASSERT_TRUE(bins.settle(gone));
    EXPECT_EQ(gone.path(), "first.csv");
}

TEST_F(BinsTest, WithoutNotesTheBinsPathStays) {
    Record orphan = at(std::string(kBin) + "/$RA1B2C3.csv", State::trashed);
    EXPECT_FALSE(learnt().settle(orphan));
    EXPECT_EQ(orphan.path(), std::string(kBin) + "/$RA1B2C3.csv");
    EXPECT_THAT(orphan.notes, Contains(HasSubstr("where it was before is not known")));
}

TEST_F(BinsTest, HoldsWhatWasThrownAwayOnly) {
    EXPECT_TRUE(Bins::holds(std::string(kBin) + "/$RA1B2C3.csv"));
    EXPECT_TRUE(Bins::holds("$Recycle.Bin/S-1-5-18/$Rabcdef/inside.txt"));
    EXPECT_TRUE(Bins::holds("RECYCLER/S-1-5-21-7/Dc12.txt"));
    EXPECT_TRUE(Bins::holds("RECYCLED/Dd1.jpg"));
    EXPECT_FALSE(Bins::holds(std::string(kBin) + "/$IA1B2C3.csv"));
    EXPECT_FALSE(Bins::holds(std::string(kBin) + "/desktop.ini"));
    EXPECT_FALSE(Bins::holds("Logs/$RA1B2C3.csv"));
    EXPECT_FALSE(Bins::holds("RECYCLER/S-1-5-21-7/INFO2"));
}

TEST_F(BinsTest, DamagedIndexFilesTellNothing) {
    const std::string index = std::string(kBin) + "/$IA1B2C3.csv";
    auto unknown_version = index_file(2, u"E:\\x", 1);
    unknown_version[0] = std::byte{7};
    add_index(index, State::live, unknown_version);
    add_index(index, State::live, std::vector<std::byte>(40));
    auto nowhere = index_file(2, u"E:\\", 1);
    add_index(index, State::live, nowhere);
    auto long_name = index_file(2, u"E:\\x", 1);
    long_name[24] = long_name[25] = long_name[26] = long_name[27] = std::byte{0xFF};
    EXPECT_TRUE(learnt().empty());
    add_index(index, State::live, long_name);
    Record file = at(std::string(kBin) + "/$RA1B2C3.csv", State::trashed);
    ASSERT_TRUE(learnt().settle(file)) << "a name that claims to be longer than the file ends with it";
    EXPECT_EQ(file.path(), "x");
}

TEST_F(BinsTest, APathThatClimbsStaysBelowTheRoot) {
    add_index(std::string(kBin) + "/$IA1B2C3.csv", State::live, index_file(2, u"E:\\a/b\\c.csv", 5));
    Record file = at(std::string(kBin) + "/$RA1B2C3.csv", State::trashed);
    ASSERT_TRUE(learnt().settle(file));
    EXPECT_EQ(file.path(), "a_b/c.csv");
}

TEST(Bins, OfOlderSystemsAreReadFromTheirList) {
    const test::Walked walked("ntfs-office");
    Bins bins;
    for (const Record& record : walked.found.records) bins.learn(record, walked.volume);
    const Record* item = nullptr;
    for (const Record& record : walked.found.records)
        if (record.name == "De2.txt") item = &record;
    ASSERT_NE(item, nullptr);
    Record auks = *item;
    auks.state = State::trashed;
    ASSERT_TRUE(bins.settle(auks));
    EXPECT_EQ(auks.path(), "Old logs/gulls 2004.txt");
    EXPECT_EQ(iso8601(auks.deleted.value()), "2004-06-02T08:00:00Z");
}

TEST(Bins, ContentsAreCounted) {
    for (const auto& [fixture, files, folders] :
         {std::tuple("ntfs-office", 6U, 2U), std::tuple("exfat-card", 2U, 1U)}) {
        const test::Walked walked(fixture);
        const BinContents contents = look_into_bins(walked.volume, *walked.filesystem);
        EXPECT_EQ(contents.files, files) << fixture;
        EXPECT_EQ(contents.folders, folders) << fixture;
        EXPECT_GT(contents.bytes, 5000U) << fixture;
        ASSERT_TRUE(contents.first && contents.last);
        EXPECT_LE(*contents.first, *contents.last);
    }
    const test::Walked none("fat16-card");
    EXPECT_TRUE(look_into_bins(none.volume, *none.filesystem).empty());
}

class DesktopTrashTest : public BinsTest {
  protected:
    void add_info(const std::string& path, State state, const std::string& text) {
        const auto bytes = std::as_bytes(std::span(text));
        add_index(path, state, {bytes.begin(), bytes.end()});
    }
    static std::string info(const std::string& path) {
        return "[Trash Info]\nPath=" + path + "\nDeletionDate=2026-09-14T07:05:33\n";
    }
};

TEST_F(DesktopTrashTest, TellsWhereThingsWereAndWhen) {
    add_info(".Trash-1000/info/terns.csv.trashinfo", State::live, info("Ringing%20logs/terns%202026.csv"));
    const Bins bins = learnt();
    EXPECT_TRUE(Bins::holds(".Trash-1000/files/terns.csv"));
    EXPECT_FALSE(Bins::holds(".Trash-1000/info/terns.csv.trashinfo"));
    Record record = at(".Trash-1000/files/terns.csv", State::trashed);
    ASSERT_TRUE(bins.settle(record));
    EXPECT_EQ(record.path(), "Ringing logs/terns 2026.csv");
    ASSERT_TRUE(record.deleted);
    EXPECT_EQ(short_time(*record.deleted), "2026-09-14 07:05");
    EXPECT_EQ(record.deleted->clock, FileTime::Clock::local);
}

TEST_F(DesktopTrashTest, FoldersComeBackWhole) {
    add_info("home/runa/.local/share/Trash/info/Season.2.trashinfo", State::live, info("/home/runa/Nests/Season"));
    const Bins bins = learnt();
    Record record = at("home/runa/.local/share/Trash/files/Season.2/May/ledge.jpg", State::trashed);
    ASSERT_TRUE(bins.settle(record));
    EXPECT_EQ(record.path(), "home/runa/Nests/Season/May/ledge.jpg");
    EXPECT_THAT(record.facts, Contains(testing::Field(&Fact::value, "runa")));
}

TEST_F(DesktopTrashTest, AHomeOnAVolumeOfItsOwnKeepsItsPlaceThere) {
    add_info("runa/.local/share/Trash/info/a.trashinfo", State::live, info("/home/runa/Mail/a"));
    Record record = at("runa/.local/share/Trash/files/a", State::trashed);
    ASSERT_TRUE(learnt().settle(record));
    EXPECT_EQ(record.path(), "runa/Mail/a");
}

TEST_F(DesktopTrashTest, WhatWasEmptiedKeepsItsOwnTimeOfDeletion) {
    add_info(".Trash/1000/info/a.txt.trashinfo", State::deleted, info("Permits/a.txt"));
    Record record = at(".Trash/1000/files/a.txt", State::deleted);
    record.deleted = FileTime{1'800'000'000};
    ASSERT_TRUE(learnt().settle(record));
    EXPECT_EQ(record.path(), "Permits/a.txt");
    EXPECT_EQ(record.deleted->seconds, 1'800'000'000);
    EXPECT_THAT(record.facts, Contains(testing::Field(&Fact::value, "2026-09-14 07:05")));
}

TEST_F(DesktopTrashTest, NotesThatClimbOrSayNothingLeadNowhere) {
    add_info(".Trash-1/info/a.trashinfo", State::live, info("../../etc/./passwd"));
    add_info(".Trash-1/info/b.trashinfo", State::live, "[Trash Info]\nPath=\n");
    add_info(".Trash-1/info/c.trashinfo", State::live, "Path=x\n");
    add_info("elsewhere/info/d.trashinfo", State::live, info("x"));
    const Bins bins = learnt();
    Record record = at(".Trash-1/files/a", State::trashed);
    ASSERT_TRUE(bins.settle(record));
    EXPECT_EQ(record.path(), "etc/passwd");
    for (const char* name : {"b", "c", "d"}) {
        Record other = at(std::string(".Trash-1/files/") + name, State::trashed);
        EXPECT_FALSE(bins.settle(other)) << name;
    }
}

// The file in which the Finder notes things was written by a program of other hands.
class MacTrashTest : public BinsTest {
  protected:
    void add_store(const std::string& trash) {
        add_index(trash + "/.DS_Store", State::live, test::unpacked("finder-store"));
    }
};

TEST_F(MacTrashTest, TellsWhereThingsWerePutBackTo) {
    add_store(".Trashes/501");
    const Bins bins = learnt();
    Record notes = at(".Trashes/501/Notes.txt", State::trashed);
    ASSERT_TRUE(bins.settle(notes));
    EXPECT_EQ(notes.path(), "Nests/Ledge 2/Notes.txt");
    EXPECT_THAT(notes.facts, Contains(Fact{"in the bin as", ".Trashes/501/Notes.txt"}));
    Record numbered = at(".Trashes/501/Notes 2.txt", State::trashed);
    ASSERT_TRUE(bins.settle(numbered));
    EXPECT_EQ(numbered.path(), "Users/maren/Ringe/Übersicht/Notes.txt") << "under the name that it had before";
}

TEST_F(MacTrashTest, AnEmptiedTrashStillTells) {
    add_store(".Trashes/501");
    const Bins bins = learnt();
    Record gone = at(".Trashes/501/Puffin 3.jpg", State::deleted);
    ASSERT_TRUE(bins.settle(gone));
    EXPECT_EQ(gone.path(), "Nests/Ledge 3/Puffin 3.jpg");
}

TEST_F(MacTrashTest, AHomesTrashKeepsWhatStandsBeforeTheHome) {
    add_store("Atlas/Users/maren/.Trash");
    const Bins bins = learnt();
    Record inside = at("Atlas/Users/maren/.Trash/Notes 2.txt", State::trashed);
    ASSERT_TRUE(bins.settle(inside));
    EXPECT_EQ(inside.path(), "Atlas/Users/maren/Ringe/Übersicht/Notes.txt");
    EXPECT_THAT(inside.facts, Contains(Fact{"account", "maren"}));
}

TEST_F(MacTrashTest, HoldsWhatWasThrownAwayOnly) {
    EXPECT_TRUE(Bins::holds(".Trashes/501/Notes.txt"));
    EXPECT_TRUE(Bins::holds("Users/maren/.Trash/Ringe/a.csv"));
    EXPECT_FALSE(Bins::holds(".Trashes/501/.DS_Store"));
    EXPECT_FALSE(Bins::holds(".Trashes/501"));
    EXPECT_FALSE(Bins::holds(".Trashes/notes/a.txt"));
    EXPECT_FALSE(Bins::holds("Users/maren/.Trash"));
}

TEST_F(MacTrashTest, DamageTellsLessAndComesToAnEnd) {
    const auto whole = test::unpacked("finder-store");
    for (std::size_t at_byte = 0; at_byte < whole.size(); at_byte += 3) {
        auto bytes = whole;
        bytes[at_byte] ^= std::byte{0xFF};
        indexes_.clear();
        bytes_.clear();
        add_index(".Trashes/501/.DS_Store", State::live, bytes);
        const Bins bins = learnt();
        Record notes = at(".Trashes/501/Notes.txt", State::trashed);
        bins.settle(notes);
        EXPECT_FALSE(notes.name.empty());
    }
}

}  // namespace
}  // namespace dredger

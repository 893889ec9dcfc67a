#include "scanning/spool.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

Record record(const std::string& name) {
    Record r;
    r.identity = {5, 77, 3};
    r.shares = 9;
    r.version = 12;
    r.folder = "Logs/Küken";
    r.name = name;
    r.state = State::trashed;
    r.origin = Origin::remnant;
    r.size = 5000;
    r.modified = FileTime{-5, 100, FileTime::Clock::local};
    r.deleted = FileTime{1'780'000'000, 0, {}};
    r.attributes = {"hidden", "sparse"};
    r.facts = {{"account", "S-1-5-21-7"}};
    r.layout.extents = {{8192, 4000}, Extent::zeros(1000)};
    r.layout.codec = Codec::lznt1;
    r.layout.unit = 65'536;
    r.layout.extents.front().pack = {Pack::Method::zstd, 512, 8192, 4096};
    r.layout.sums = {1, 0xFFFFFFFF};
    r.layout.sum_unit = 4096;
    r.layout.within_records = true;
    r.trust = LayoutTrust::damaged;
    r.name_is_whole = false;
    r.notes = {"a note", ""};
    return r;
}

TEST(Spool, GivesBackWhatItWasGiven) {
    const test::TempFolder folder;
    Spool spool = Spool::open(folder.path()).value();
    ASSERT_TRUE(spool.add(5, record("terns.csv")));
    ASSERT_TRUE(spool.add(9, record("")));
    ASSERT_EQ(spool.size(), 2U);
    const WaitingRecord found = spool.read(0).value();
    const Record given = record("terns.csv");
    EXPECT_EQ(found.id, 5);
    EXPECT_EQ(found.record.identity, given.identity);
    EXPECT_EQ(found.record.shares, 9U);
    EXPECT_EQ(found.record.version, 12U);
    EXPECT_EQ(found.record.path(), "Logs/Küken/terns.csv");
    EXPECT_EQ(found.record.state, State::trashed);
    EXPECT_EQ(found.record.origin, Origin::remnant);
    EXPECT_EQ(found.record.size, 5000U);
    EXPECT_EQ(found.record.modified, given.modified);
    EXPECT_EQ(found.record.modified->clock, FileTime::Clock::local);
    EXPECT_FALSE(found.record.created);
    EXPECT_EQ(found.record.deleted, given.deleted);
    EXPECT_EQ(found.record.attributes, given.attributes);
    EXPECT_EQ(found.record.facts, given.facts);
    EXPECT_EQ(found.record.layout, given.layout);
    EXPECT_EQ(found.record.trust, LayoutTrust::damaged);
    EXPECT_FALSE(found.record.name_is_whole);
    EXPECT_EQ(found.record.notes, given.notes);
}

TEST(Spool, TakesMoreThanItKeepsInMemory) {
    const test::TempFolder folder;
    Spool spool = Spool::open(folder.path()).value();
    for (std::int64_t id = 1; id <= 20'000; ++id) ASSERT_TRUE(spool.add(2 * id, record("file " + std::to_string(id))));
    for (const std::size_t index : {0U, 1U, 19'999U, 5U, 12'345U})
        EXPECT_EQ(spool.read(index)->record.name, "file " + std::to_string(index + 1));
    EXPECT_EQ(spool.find(2 * 777)->record.name, "file 777");
    EXPECT_FALSE(spool.find(777));
    EXPECT_TRUE(std::filesystem::is_empty(folder.path())) << "its file has no name";
}

TEST(Spool, AFolderThatIsNotThereIsAnError) {
    const auto spool = Spool::open("/nowhere/at/all");
    ASSERT_FALSE(spool);
    EXPECT_EQ(spool.error().kind, ErrorKind::output);
}

}  // namespace
}  // namespace dredger

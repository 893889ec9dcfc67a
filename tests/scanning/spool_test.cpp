#include "scanning/spool.h"

#include <gtest/gtest.h>

#include "support/support.h"

namespace dredger {
namespace {

Candidate candidate(std::int64_t id, const std::string& name) {
    Candidate c;
    c.id = id;
    c.volume = 3;
    Record& r = c.record;
    r.id = 77;
    r.folder = "Logs/Küken";
    r.name = name;
    r.state = State::trashed;
    r.origin = Origin::remnant;
    r.size = 5000;
    r.modified = FileTime{-5, 100, FileTime::Clock::local};
    r.deleted = FileTime{1'780'000'000, 0, {}};
    r.attributes = {"hidden", "sparse"};
    r.facts = {{"account", "S-1-5-21-7"}};
    r.layout.extents = {{8192, 4000}, {Extent::kZeros, 1000}};
    r.layout.codec = Codec::lznt1;
    r.layout.unit = 65'536;
    r.layout.packs = {{Pack::Codec::zstd, 4096, 512, 8192}, {}};
    r.layout.sums = {1, 0xFFFFFFFF};
    r.layout.sum_unit = 4096;
    r.layout.within_records = true;
    r.trust = LayoutTrust::damaged;
    r.name_is_whole = false;
    r.notes = {"a note", ""};
    return c;
}

TEST(Spool, GivesBackWhatItWasGiven) {
    const test::TempFolder folder;
    Spool spool = Spool::open(folder.path()).value();
    ASSERT_TRUE(spool.add(candidate(5, "terns.csv")));
    ASSERT_TRUE(spool.add(candidate(9, "")));
    ASSERT_EQ(spool.size(), 2U);
    const Candidate found = spool.read(0).value();
    const Candidate given = candidate(5, "terns.csv");
    EXPECT_EQ(found.id, 5);
    EXPECT_EQ(found.volume, 3);
    EXPECT_EQ(found.record.id, 77U);
    EXPECT_EQ(found.record.path(), "Logs/Küken/terns.csv");
    EXPECT_EQ(found.record.state, State::trashed);
    EXPECT_EQ(found.record.origin, Origin::remnant);
    EXPECT_EQ(found.record.size, 5000U);
    EXPECT_EQ(found.record.modified, given.record.modified);
    EXPECT_EQ(found.record.modified->clock, FileTime::Clock::local);
    EXPECT_FALSE(found.record.created);
    EXPECT_EQ(found.record.deleted, given.record.deleted);
    EXPECT_EQ(found.record.attributes, given.record.attributes);
    EXPECT_EQ(found.record.facts, given.record.facts);
    EXPECT_EQ(found.record.layout, given.record.layout);
    EXPECT_EQ(found.record.trust, LayoutTrust::damaged);
    EXPECT_FALSE(found.record.name_is_whole);
    EXPECT_EQ(found.record.notes, given.record.notes);
}

TEST(Spool, TakesMoreThanItKeepsInMemory) {
    const test::TempFolder folder;
    Spool spool = Spool::open(folder.path()).value();
    for (std::int64_t id = 1; id <= 20'000; ++id)
        ASSERT_TRUE(spool.add(candidate(2 * id, "file " + std::to_string(id))));
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

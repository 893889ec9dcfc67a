// Catalogs of every earlier version become today's. The tables stand as those versions made them.
#include "catalog/schema.h"

#include <gmock/gmock.h>
#include <sqlite3.h>

#include "catalog/catalog.h"
#include "support/support.h"

namespace dredger {
namespace {

using testing::ElementsAre;

constexpr const char* kColumnsOf1 =
    "id INTEGER PRIMARY KEY, volume INTEGER NOT NULL REFERENCES volumes, record INTEGER NOT NULL, state INTEGER NOT "
    "NULL, "
    "origin INTEGER NOT NULL, is_folder INTEGER NOT NULL, folder TEXT NOT NULL, name TEXT NOT NULL, name_is_whole "
    "INTEGER "
    "NOT NULL, size INTEGER NOT NULL, kind INTEGER NOT NULL, format TEXT NOT NULL, created INTEGER, created_ns "
    "INTEGER, "
    "modified INTEGER, modified_ns INTEGER, accessed INTEGER, accessed_ns INTEGER, deleted INTEGER, deleted_ns "
    "INTEGER, "
    "clock INTEGER NOT NULL, attributes TEXT NOT NULL, trust INTEGER NOT NULL, prospect INTEGER NOT NULL, band INTEGER "
    "NOT "
    "NULL, chk INTEGER NOT NULL, reasons TEXT NOT NULL";
constexpr const char* kColumnsOf2 =
    ", changed INTEGER, changed_ns INTEGER, facts TEXT NOT NULL DEFAULT '', codec INTEGER NOT NULL DEFAULT 0, unit "
    "INTEGER "
    "NOT NULL DEFAULT 0, within_records INTEGER NOT NULL DEFAULT 0";
constexpr const char* kColumnsOf3 = ", proof INTEGER NOT NULL DEFAULT 0";
constexpr const char* kColumnsOf5 =
    ", checked INTEGER NOT NULL DEFAULT 0, likeness INTEGER, content INTEGER NOT NULL DEFAULT 0";

std::string tables_of(int version) {
    std::string sql =
        "CREATE TABLE sources (id INTEGER PRIMARY KEY, path TEXT NOT NULL, size INTEGER NOT NULL, serial TEXT NOT "
        "NULL, "
        "samples TEXT NOT NULL" +
        std::string(version >= 5 ? ", compared INTEGER NOT NULL DEFAULT 0" : "") +
        ");CREATE TABLE volumes (id INTEGER PRIMARY KEY, source INTEGER NOT NULL REFERENCES sources, number INTEGER "
        "NOT "
        "NULL, offset INTEGER NOT NULL, length INTEGER NOT NULL, partition_table INTEGER NOT NULL, filesystem TEXT NOT "
        "NULL, label TEXT NOT NULL, serial TEXT NOT NULL, cluster_size INTEGER NOT NULL, used INTEGER NOT NULL, "
        "warnings "
        "TEXT NOT NULL, settings TEXT NOT NULL, done INTEGER NOT NULL" +
        (version >= 3 ? ", map_is_trusted INTEGER NOT NULL DEFAULT 1" : "") + ");CREATE TABLE candidates (" +
        kColumnsOf1 + (version >= 2 ? kColumnsOf2 : "") + (version >= 3 ? kColumnsOf3 : "") +
        (version >= 5 ? kColumnsOf5 : "") +
        ");CREATE TABLE extents (candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, offset "
        "INTEGER NOT NULL, length INTEGER NOT NULL, PRIMARY KEY (candidate, position)) WITHOUT ROWID;";
    if (version == 1)
        sql += "CREATE INDEX candidates_by_prospect ON candidates (state, is_folder, prospect DESC, folder, name, id);";
    if (version >= 3)
        sql +=
            "CREATE TABLE sweeps (volume INTEGER PRIMARY KEY REFERENCES volumes, settings TEXT NOT NULL, checked "
            "INTEGER "
            "NOT NULL, position INTEGER NOT NULL, total INTEGER NOT NULL, state TEXT NOT NULL, done INTEGER NOT NULL);"
            "INSERT INTO sweeps VALUES (1, '{}', 2, 100, 900, "
            "'{\"dropped\":3,\"traces\":[[\"XFS\",\"\",0,9,1,\"e\",5]]}', 0);";
    if (version >= 4)
        sql +=
            "CREATE TABLE summary (folders INTEGER NOT NULL, sound INTEGER NOT NULL, patchy INTEGER NOT NULL, faint "
            "INTEGER "
            "NOT NULL, gone INTEGER NOT NULL, bytes INTEGER NOT NULL, expected_bytes REAL NOT NULL);";
    if (version >= 5) sql += "CREATE INDEX candidates_by_content ON candidates (content) WHERE content > 0;";
    if (version >= 6)
        sql +=
            "CREATE TABLE packs (candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, codec "
            "INTEGER "
            "NOT NULL, content INTEGER NOT NULL, skip INTEGER NOT NULL, unpacked INTEGER NOT NULL, PRIMARY KEY "
            "(candidate, "
            "position)) WITHOUT ROWID; CREATE TABLE sums (candidate INTEGER PRIMARY KEY REFERENCES candidates, unit "
            "INTEGER "
            "NOT NULL, sums BLOB NOT NULL);";
    if (version >= 7)
        sql +=
            "CREATE TABLE unreadable (source INTEGER NOT NULL REFERENCES sources, offset INTEGER NOT NULL, length "
            "INTEGER "
            "NOT NULL, PRIMARY KEY (source, offset)) WITHOUT ROWID; INSERT INTO unreadable VALUES (1, 512, 1024);";
    return sql;
}

// A card with one deleted log in four extents, two of which nobody stored.
constexpr const char* kRows =
    "INSERT INTO sources (id, path, size, serial, samples) VALUES (1, '/images/card.img', 4096, 'RS-1', 'ab\ncd');"
    "INSERT INTO volumes (id, source, number, offset, length, partition_table, filesystem, label, serial, "
    "cluster_size, "
    "used, warnings, settings, done) VALUES (1, 1, 1, 0, 4096, 0, 'FAT32', 'RINGCARD', 'A', 512, 9, 'one\ntwo', '{}', "
    "1);"
    "INSERT INTO candidates (id, volume, record, state, origin, is_folder, folder, name, name_is_whole, size, kind, "
    "format, "
    "modified, modified_ns, clock, attributes, trust, prospect, band, chk, reasons) VALUES (7, 1, 4096, 1, 0, 0, "
    "'Logs', "
    "'terns.csv', 1, 1000, 3, 'csv', 1770000000, 5, 1, 'hidden\nsystem', 0, 88, 0, 1, 'first\nsecond');"
    "INSERT INTO extents VALUES (7, 0, 512, 600), (7, 1, -1, 100), (7, 2, -2, 50), (7, 3, 2048, 250);";

class EarlierCatalog : public testing::TestWithParam<int> {};

TEST_P(EarlierCatalog, BecomesTodays) {
    const test::TempFolder folder;
    const auto path = folder / "old.dredge";
    sqlite3* handle = nullptr;
    ASSERT_EQ(sqlite3_open(path.c_str(), &handle), SQLITE_OK);
    const std::string setup = tables_of(GetParam()) + kRows +
                              "PRAGMA application_id=1146242119; PRAGMA user_version=" + std::to_string(GetParam());
    char* trouble = nullptr;
    ASSERT_EQ(sqlite3_exec(handle, setup.c_str(), nullptr, nullptr, &trouble), SQLITE_OK) << trouble;
    if (GetParam() >= 2)
        sqlite3_exec(handle, "UPDATE candidates SET facts = 'account: S-1-5\nlink to: a: b'", nullptr, nullptr,
                     nullptr);
    sqlite3_close(handle);

    const auto opened = Catalog::open(path);
    ASSERT_TRUE(opened) << opened.error().line();
    const auto found = opened->find(7);
    ASSERT_TRUE(found && *found);
    const Candidate& c = **found;
    EXPECT_EQ(c.record.path(), "Logs/terns.csv");
    EXPECT_EQ(c.record.identity.number, 4096U);
    EXPECT_EQ(c.record.modified->clock, FileTime::Clock::local);
    EXPECT_FALSE(c.record.created || c.record.changed);
    EXPECT_THAT(c.record.attributes, ElementsAre("hidden", "system"));
    EXPECT_THAT(c.prospect.reasons, ElementsAre("first", "second"));
    EXPECT_EQ(c.prospect.value, 88);
    EXPECT_THAT(c.layout.extents, ElementsAre(LayoutExtent(512, 600), LayoutExtent(Extent::unknown(100)),
                                              LayoutExtent(Extent::zeros(50)), LayoutExtent(2048, 250)));
    using Facts = std::vector<Fact>;
    EXPECT_EQ(c.record.facts, GetParam() >= 2 ? (Facts{{"account", "S-1-5"}, {"link to", "a: b"}}) : Facts());
    EXPECT_THAT(opened->volumes()->front().facts.warnings, ElementsAre("one", "two"));
    EXPECT_THAT(opened->sources()->front().identity.samples, ElementsAre("ab", "cd"));
    EXPECT_EQ(opened->sources()->front().scan.size(), 36U);
    EXPECT_EQ(opened->uuid()->size(), 36U);
    EXPECT_EQ(opened->totals({})->files, 1U);
    EXPECT_EQ(opened->bad_areas(1)->size(), GetParam() >= 7 ? 1U : 0U);
    // A search that was under way begins anew.
    if (GetParam() >= 3) {
        EXPECT_EQ(opened->sweep_of(1)->value().position, 0U);
    }
    EXPECT_TRUE(Catalog::open(path)) << "once is enough";
}

TEST_P(EarlierCatalog, GoesOnToBeScannedInto) {
    const test::TempFolder folder;
    sqlite3* handle = nullptr;
    ASSERT_EQ(sqlite3_open((folder / "old.dredge").c_str(), &handle), SQLITE_OK);
    const std::string setup = tables_of(GetParam()) + kRows +
                              "PRAGMA application_id=1146242119; PRAGMA user_version=" + std::to_string(GetParam());
    ASSERT_EQ(sqlite3_exec(handle, setup.c_str(), nullptr, nullptr, nullptr), SQLITE_OK);
    sqlite3_close(handle);
    auto catalog = Catalog::open_for_scan(folder / "old.dredge");
    ASSERT_TRUE(catalog) << catalog.error().line();
    Candidate c = catalog->find(7)->value();
    c.id = catalog->next_id().value();
    c.record.name_stream("notes");
    ASSERT_TRUE(catalog->begin());
    ASSERT_TRUE(catalog->add(c));
    ASSERT_TRUE(catalog->finish_volume(catalog->volumes()->front()));
    ASSERT_TRUE(catalog->commit());
    EXPECT_EQ(catalog->find(c.id)->value().layout, c.layout);
    EXPECT_EQ(catalog->overlapping(c)->size(), 2U);
}

INSTANTIATE_TEST_SUITE_P(Versions, EarlierCatalog, testing::Range(1, 8));

// What versions since 9 added to the tables of version 8.
constexpr const char* kWithoutWhatCameLater =
    "ALTER TABLE unreadable DROP COLUMN told_by; ALTER TABLE volumes DROP COLUMN find; "
    "DROP INDEX copies_by_document; ALTER TABLE candidates DROP COLUMN role; ALTER TABLE candidates DROP COLUMN "
    "document; "
    "ALTER TABLE candidates DROP COLUMN as_of; ALTER TABLE candidates DROP COLUMN as_of_ns; ALTER TABLE candidates "
    "DROP "
    "COLUMN as_of_clock; ALTER TABLE candidates DROP COLUMN role_why;";

TEST(Schema, ProofsOfVersion8MeanTheSameToday) {
    const test::TempFolder folder;
    const auto path = folder / "old.dredge";
    for (const int proof : {0, 1, 2, 3}) {
        std::filesystem::remove(path);
        {
            auto catalog = Catalog::open_for_scan(path);
            ASSERT_TRUE(catalog && catalog->begin());
            Candidate c;
            c.id = 1;
            c.volume = 1;
            c.record.name = "terns.csv";
            ASSERT_TRUE(catalog->add(c) && catalog->commit());
        }
        sqlite3* handle = nullptr;
        ASSERT_EQ(sqlite3_open(path.c_str(), &handle), SQLITE_OK);
        const std::string setup = std::string(kWithoutWhatCameLater) +
                                  "UPDATE candidates SET proof = " + std::to_string(proof) +
                                  "; PRAGMA user_version = 8";
        ASSERT_EQ(sqlite3_exec(handle, setup.c_str(), nullptr, nullptr, nullptr), SQLITE_OK);
        sqlite3_close(handle);
        const auto opened = Catalog::open(path);
        ASSERT_TRUE(opened) << opened.error().line();
        constexpr Proof kToday[] = {Proof::none, Proof::length, Proof::structure, Proof::checksums};
        EXPECT_EQ(opened->find(1)->value().proof, kToday[proof]);
    }
}

TEST(Schema, ACatalogThatCannotBeChangedSaysHowItCanBeRead) {
    const test::TempFolder folder;
    sqlite3* handle = nullptr;
    ASSERT_EQ(sqlite3_open((folder / "old.dredge").c_str(), &handle), SQLITE_OK);
    // A table that the step makes is there already: nothing of it is done.
    const std::string setup =
        tables_of(7) + kRows +
        "CREATE TABLE catalog (other TEXT); PRAGMA application_id=1146242119; PRAGMA user_version=7";
    ASSERT_EQ(sqlite3_exec(handle, setup.c_str(), nullptr, nullptr, nullptr), SQLITE_OK);
    sqlite3_close(handle);
    const auto opened = Catalog::open(folder / "old.dredge");
    ASSERT_FALSE(opened);
    EXPECT_THAT(opened.error().line(), testing::HasSubstr("version 7"));
    auto database = sqlite::Database::open((folder / "old.dredge").string(), sqlite::Database::Mode::read_only);
    EXPECT_EQ(database->number("PRAGMA user_version").value(), 7);
    EXPECT_EQ(database->number("SELECT length(reasons) FROM candidates").value(), 12) << "as it was";
}

}  // namespace
}  // namespace dredger

#include "catalog/schema.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include "base/unique_id.h"
#include "catalog/rows.h"

namespace dredger {
namespace {

using sqlite::Database;
using sqlite::Statement;

constexpr const char* kTables = R"(
CREATE TABLE catalog (uuid TEXT NOT NULL);
CREATE TABLE sources (
    id INTEGER PRIMARY KEY, path TEXT NOT NULL, size INTEGER NOT NULL, serial TEXT NOT NULL, samples TEXT NOT NULL,
    compared INTEGER NOT NULL, scan TEXT NOT NULL);
CREATE TABLE unreadable (
    source INTEGER NOT NULL REFERENCES sources, offset INTEGER NOT NULL, length INTEGER NOT NULL,
    told_by INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (source, offset)) WITHOUT ROWID;
CREATE TABLE volumes (
    id INTEGER PRIMARY KEY, source INTEGER NOT NULL REFERENCES sources, number INTEGER NOT NULL, offset INTEGER NOT NULL,
    length INTEGER NOT NULL, pieces TEXT NOT NULL, partition_table INTEGER NOT NULL, filesystem TEXT NOT NULL,
    label TEXT NOT NULL, serial TEXT NOT NULL, cluster_size INTEGER NOT NULL, used INTEGER NOT NULL,
    warnings TEXT NOT NULL, settings TEXT NOT NULL, done INTEGER NOT NULL, map_is_trusted INTEGER NOT NULL,
    find INTEGER NOT NULL DEFAULT 0);
CREATE TABLE sweeps (
    volume INTEGER PRIMARY KEY REFERENCES volumes, settings TEXT NOT NULL, checked INTEGER NOT NULL,
    position INTEGER NOT NULL, total INTEGER NOT NULL, state TEXT NOT NULL, traces TEXT NOT NULL,
    done INTEGER NOT NULL);
CREATE TABLE grounds (volume INTEGER PRIMARY KEY REFERENCES volumes, extents TEXT NOT NULL);
CREATE TABLE candidates ({});
CREATE INDEX candidates_by_content ON candidates (content) WHERE content > 0;
CREATE INDEX copies_by_document ON candidates (document) WHERE role > 0;
CREATE TABLE extents (
    candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, held INTEGER NOT NULL,
    offset INTEGER NOT NULL, length INTEGER NOT NULL, size_class INTEGER NOT NULL, PRIMARY KEY (candidate, position))
    WITHOUT ROWID;
CREATE TABLE packs (
    candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, codec INTEGER NOT NULL,
    content INTEGER NOT NULL, skip INTEGER NOT NULL, unpacked INTEGER NOT NULL, PRIMARY KEY (candidate, position))
    WITHOUT ROWID;
CREATE TABLE sums (candidate INTEGER PRIMARY KEY REFERENCES candidates, unit INTEGER NOT NULL, sums BLOB NOT NULL);
CREATE TABLE summary (
    folders INTEGER NOT NULL, sound INTEGER NOT NULL, patchy INTEGER NOT NULL, faint INTEGER NOT NULL,
    gone INTEGER NOT NULL, bytes INTEGER NOT NULL, expected_bytes REAL NOT NULL);
)";

// One step a version: what was added since, with what catalogs of that time mean by not having it.
constexpr const char* kStepFrom[] = {
    nullptr,
    // 1: the change of the record itself, facts, and packed content
    R"(DROP INDEX IF EXISTS candidates_by_prospect;
       ALTER TABLE candidates ADD COLUMN changed INTEGER;
       ALTER TABLE candidates ADD COLUMN changed_ns INTEGER;
       ALTER TABLE candidates ADD COLUMN facts TEXT NOT NULL DEFAULT '';
       ALTER TABLE candidates ADD COLUMN codec INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN unit INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN within_records INTEGER NOT NULL DEFAULT 0;)",
    // 2: deep scans
    R"(ALTER TABLE volumes ADD COLUMN map_is_trusted INTEGER NOT NULL DEFAULT 1;
       ALTER TABLE candidates ADD COLUMN proof INTEGER NOT NULL DEFAULT 0;
       CREATE TABLE sweeps (
           volume INTEGER PRIMARY KEY REFERENCES volumes, settings TEXT NOT NULL, checked INTEGER NOT NULL,
           position INTEGER NOT NULL, total INTEGER NOT NULL, state TEXT NOT NULL, done INTEGER NOT NULL);)",
    // 3: the usual totals
    R"(CREATE TABLE summary (
           folders INTEGER NOT NULL, sound INTEGER NOT NULL, patchy INTEGER NOT NULL, faint INTEGER NOT NULL,
           gone INTEGER NOT NULL, bytes INTEGER NOT NULL, expected_bytes REAL NOT NULL);)",
    // 4: what content tells after the scan
    R"(ALTER TABLE sources ADD COLUMN compared INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN checked INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN likeness INTEGER;
       ALTER TABLE candidates ADD COLUMN content INTEGER NOT NULL DEFAULT 0;
       CREATE INDEX candidates_by_content ON candidates (content) WHERE content > 0;)",
    // 5: extents that are packed each by itself, and checksums
    R"(CREATE TABLE packs (
           candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, codec INTEGER NOT NULL,
           content INTEGER NOT NULL, skip INTEGER NOT NULL, unpacked INTEGER NOT NULL,
           PRIMARY KEY (candidate, position)) WITHOUT ROWID;
       CREATE TABLE sums (
           candidate INTEGER PRIMARY KEY REFERENCES candidates, unit INTEGER NOT NULL, sums BLOB NOT NULL);)",
    // 6: unreadable areas
    R"(CREATE TABLE unreadable (
           source INTEGER NOT NULL REFERENCES sources, offset INTEGER NOT NULL, length INTEGER NOT NULL,
           PRIMARY KEY (source, offset)) WITHOUT ROWID;)",
    // 7: identities, a clock for each time, lists as JSON, what an extent holds in words of its own
    R"(CREATE TABLE catalog (uuid TEXT NOT NULL);
       ALTER TABLE sources ADD COLUMN scan TEXT NOT NULL DEFAULT '';
       UPDATE sources SET samples = json_of_lines(samples), scan = new_uuid();
       ALTER TABLE volumes ADD COLUMN pieces TEXT NOT NULL DEFAULT '[]';
       UPDATE volumes SET warnings = json_of_lines(warnings);
       ALTER TABLE sweeps ADD COLUMN traces TEXT NOT NULL DEFAULT '[]';
       CREATE TABLE grounds (volume INTEGER PRIMARY KEY REFERENCES volumes, extents TEXT NOT NULL);
       UPDATE sweeps SET settings = '', position = 0, state = '' WHERE done = 0;
       DROP INDEX IF EXISTS extents_by_start;
       ALTER TABLE extents ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE extents ADD COLUMN size_class INTEGER NOT NULL DEFAULT 0;
       UPDATE extents SET held = 2, offset = 0 WHERE offset = -1;
       UPDATE extents SET held = 1, offset = 0 WHERE offset = -2;
       UPDATE extents SET size_class = size_class_of(length);
       DROP INDEX IF EXISTS finds_by_path;
       ALTER TABLE candidates ADD COLUMN tree INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN generation INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN shares INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN version INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN is_own INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN stream TEXT NOT NULL DEFAULT '';
       ALTER TABLE candidates ADD COLUMN name_is_placeholder INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN created_clock INTEGER;
       ALTER TABLE candidates ADD COLUMN modified_clock INTEGER;
       ALTER TABLE candidates ADD COLUMN accessed_clock INTEGER;
       ALTER TABLE candidates ADD COLUMN changed_clock INTEGER;
       ALTER TABLE candidates ADD COLUMN deleted_clock INTEGER;
       UPDATE candidates SET created_clock = clock WHERE created IS NOT NULL;
       UPDATE candidates SET modified_clock = clock WHERE modified IS NOT NULL;
       UPDATE candidates SET accessed_clock = clock WHERE accessed IS NOT NULL;
       UPDATE candidates SET changed_clock = clock WHERE changed IS NOT NULL;
       UPDATE candidates SET deleted_clock = clock WHERE deleted IS NOT NULL;
       UPDATE candidates SET attributes = json_of_lines(attributes), facts = json_of_facts(facts),
           reasons = json_of_lines(reasons);
       ALTER TABLE candidates DROP COLUMN clock;)",
    // 8: content whose parts follow each other, told apart from content that makes sense in them
    R"(UPDATE candidates SET proof = proof + 1 WHERE proof >= 2;)",
    // 9: what a file is to another one
    R"(ALTER TABLE candidates ADD COLUMN role INTEGER NOT NULL DEFAULT 0;
       ALTER TABLE candidates ADD COLUMN document TEXT NOT NULL DEFAULT '';
       ALTER TABLE candidates ADD COLUMN as_of INTEGER;
       ALTER TABLE candidates ADD COLUMN as_of_ns INTEGER;
       ALTER TABLE candidates ADD COLUMN as_of_clock INTEGER;
       ALTER TABLE candidates ADD COLUMN role_why TEXT NOT NULL DEFAULT '';
       CREATE INDEX copies_by_document ON candidates (document) WHERE role > 0;)",
    // 10: mail stores that lie in finds
    R"(ALTER TABLE volumes ADD COLUMN find INTEGER NOT NULL DEFAULT 0;)",
    // 11: who told that an area is unreadable
    R"(ALTER TABLE unreadable ADD COLUMN told_by INTEGER NOT NULL DEFAULT 0;)",
};
static_assert(std::size(kStepFrom) == kCatalogVersion);

// Lists as versions before 8 kept them: a line each, a fact as "NAME: VALUE".
std::vector<std::string> lines_of(std::string_view text) {
    std::vector<std::string> lines;
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        lines.emplace_back(text.substr(from, end - from));
        from = end + 1;
    }
    return lines;
}

std::string json_of_lines(std::string_view text) { return rows::json_of(lines_of(text)); }

std::string json_of_facts(std::string_view text) {
    std::vector<Fact> facts;
    for (const std::string& line : lines_of(text)) {
        const std::size_t colon = std::min(line.find(": "), line.size());
        facts.push_back({line.substr(0, colon), line.substr(std::min(colon + 2, line.size()))});
    }
    return rows::json_of(facts);
}

void add_step_functions(Database& database) {
    constexpr int kFlags = SQLITE_UTF8;
    using Context = sqlite3_context*;
    using Values = sqlite3_value**;
    const auto add = [&](const char* name, int values, void (*function)(Context, int, Values)) {
        sqlite3_create_function(database.handle(), name, values, kFlags, nullptr, function, nullptr, nullptr);
    };
    add("json_of_lines", 1, [](Context c, int, Values v) { sqlite::answer(c, json_of_lines(sqlite::text_of(v[0]))); });
    add("json_of_facts", 1, [](Context c, int, Values v) { sqlite::answer(c, json_of_facts(sqlite::text_of(v[0]))); });
    add("new_uuid", 0, [](Context c, int, Values) { sqlite::answer(c, unique_id()); });
    add("size_class_of", 1, [](Context c, int, Values v) {
        sqlite3_result_int(c, rows::size_class_of(rows::loaded(sqlite3_value_int64(v[0]))));
    });
}

Result<void> give_uuid(Database& database) {
    DREDGER_TRY(Statement insert, database.prepare("INSERT INTO catalog VALUES (?)"));
    return insert.bind(1, unique_id()).run();
}

Result<void> all_or_nothing(Database& database, const std::function<Result<void>()>& work) {
    DREDGER_CHECK(database.execute("BEGIN IMMEDIATE"));
    auto done = work();
    if (done) done = database.execute("COMMIT");
    if (!done && sqlite3_get_autocommit(database.handle()) == 0) (void)database.execute("ROLLBACK");
    return done;
}

}  // namespace

Result<void> make_tables(Database& database) {
    return all_or_nothing(database, [&]() -> Result<void> {
        DREDGER_CHECK(database.execute(
            fmt::format("PRAGMA application_id={}; PRAGMA user_version={};", kCatalogApplicationId, kCatalogVersion)
                .c_str()));
        DREDGER_CHECK(database.execute(fmt::format(kTables, rows::declarations()).c_str()));
        return give_uuid(database);
    });
}

Result<void> migrate(Database& database, int from) {
    add_step_functions(database);
    return all_or_nothing(database, [&]() -> Result<void> {
        for (int version = from; version < kCatalogVersion; ++version)
            DREDGER_CHECK(database.execute(kStepFrom[version]));
        if (from < 8) DREDGER_CHECK(give_uuid(database));
        return database.execute(fmt::format("PRAGMA user_version={}", kCatalogVersion).c_str());
    });
}

}  // namespace dredger

#include "catalog/store.h"

#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <sqlite3.h>
#include <unistd.h>

#include "base/beneath.h"
#include "base/unique_id.h"
#include "base/whole_file.h"
#include "catalog/rows.h"
#include "catalog/schema.h"
#include "catalog/selection.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using rows::candidate_at;
using rows::code;
using rows::json_of;
using rows::loaded;
using rows::stored;
using rows::strings_from;
using sqlite::Database;
using sqlite::Statement;

void add_functions(const Database& database) {
    constexpr int kFlags = SQLITE_UTF8 | SQLITE_DETERMINISTIC;
    sqlite3_create_function(
        database.handle(), "folded", 1, kFlags, nullptr,
        [](sqlite3_context* c, int, sqlite3_value** v) { sqlite::answer(c, folded(sqlite::text_of(v[0]))); }, nullptr,
        nullptr);
    sqlite3_create_function(
        database.handle(), "extension_of", 1, kFlags, nullptr,
        [](sqlite3_context* c, int, sqlite3_value** v) { sqlite::answer(c, extension_of(sqlite::text_of(v[0]))); },
        nullptr, nullptr);
}

// What stands in volumes.done.
enum Progress : std::int64_t { kUnfinished, kFinished, kHasMore };

bool begins_as_database(const fs::path& path) {
    std::ifstream in(path, std::ios::binary);
    char head[16] = {};
    in.read(head, sizeof head);
    return in.gcount() == 0 || std::string_view(head, sizeof head) == std::string_view("SQLite format 3\0", 16);
}

// Where a database that is used keeps files of its own.
bool can_be_written_beside(const fs::path& path) {
    std::error_code failed;
    return ::access(fs::absolute(path, failed).parent_path().c_str(), W_OK) == 0;
}

}  // namespace

Store::Store(fs::path path, Database database) : path_(std::move(path)), database_(std::move(database)) {}

Result<Store> Store::checked(const fs::path& path, Database database) {
    const auto application = database.number("PRAGMA application_id");
    if (!application) return tl::unexpected<Error>(application.error());
    if (*application != kCatalogApplicationId)
        return fail(ErrorKind::not_understood, "this is not a catalog", path.string(),
                    "dredger scan makes one: -c NAME.dredge");
    DREDGER_TRY(const std::int64_t version, database.number("PRAGMA user_version"));
    if (version < 1 || version > kVersion)
        return fail(ErrorKind::not_understood,
                    fmt::format("this catalog has version {}, this program knows versions 1 to {}", version, kVersion),
                    path.string(), "use a newer dredger");
    if (version < kVersion && !migrate(database, static_cast<int>(version)))
        return fail(
            ErrorKind::output,
            fmt::format("this catalog has version {} and can't be brought to version {} here", version, kVersion),
            path.string(), "copy it to a folder that can be written, with room for twice its size");
    add_functions(database);
    Store catalog(path, std::move(database));
    DREDGER_TRY(catalog.add_candidate_, catalog.database_.prepare(fmt::format("INSERT INTO candidates ({}) VALUES ({})",
                                                                              rows::columns(), rows::parameters())));
    DREDGER_TRY(catalog.add_extent_,
                catalog.database_.prepare("INSERT INTO extents (candidate, position, held, offset, length, size_class) "
                                          "VALUES (?,?,?,?,?,?)"));
    DREDGER_TRY(catalog.find_,
                catalog.database_.prepare(fmt::format("SELECT {} FROM candidates WHERE id=?", rows::columns())));
    DREDGER_TRY(catalog.layout_, catalog.database_.prepare(
                                     "SELECT held, offset, length FROM extents WHERE candidate=? ORDER BY position"));
    DREDGER_TRY(catalog.sums_, catalog.database_.prepare("SELECT unit, sums FROM sums WHERE candidate=?"));
    DREDGER_TRY(catalog.beginning_,
                catalog.database_.prepare(fmt::format("SELECT {} FROM candidates WHERE id IN (SELECT candidate FROM "
                                                      "extents WHERE position = 0 AND held = {} AND offset = ?) AND "
                                                      "volume=? AND state<>{} AND is_folder=0 ORDER BY id",
                                                      rows::columns(), code(Held::stored), code(State::live))));
    return catalog;
}

Result<Store> Store::open_for_scan(const fs::path& path) {
    std::error_code failed;
    const bool exists = fs::exists(path, failed);
    if (!exists) DREDGER_CHECK(refuse_link(path));
    if (exists && (fs::is_directory(path, failed) || !begins_as_database(path)))
        return fail(ErrorKind::not_understood, "this is not a catalog, and is left alone", path.string(),
                    "give another name after -c");
    if (!can_be_written_beside(path))
        return fail(ErrorKind::output, "the catalog can't be written here", path.string(),
                    "check that the folder exists and is yours");
    // Whenever it is interrupted, there is a catalog by this name or none.
    if (!exists) {
        DREDGER_TRY(Database empty, Database::open(":memory:", Database::Mode::create));
        DREDGER_CHECK(make_tables(empty));
        DREDGER_CHECK(write_new_file(path, empty.content()));
    }
    DREDGER_TRY(Database database, Database::open(path.string(), Database::Mode::read_write));
    DREDGER_CHECK(database.execute("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA cache_size=-16384;"));
    auto lock = std::make_shared<const FileLock>(path);
    if (lock->is_held_elsewhere())
        return fail(ErrorKind::unsafe, "another scan is writing this catalog", path.string(),
                    "wait until it is done, or give another name after -c");
    // An empty file may stand there from before.
    DREDGER_TRY(const std::int64_t tables, database.number("SELECT count(*) FROM sqlite_master"));
    if (tables == 0) DREDGER_CHECK(make_tables(database));
    auto catalog = checked(path, std::move(database));
    if (catalog) catalog->lock_ = std::move(lock);
    return catalog;
}

Result<Store> Store::open(const fs::path& path) {
    std::error_code failed;
    if (!fs::exists(path, failed))
        return fail(ErrorKind::unreadable, "no such catalog", path.string(),
                    "dredger scan SOURCE -c CATALOG makes one");
    if (fs::is_directory(path, failed) || !begins_as_database(path))
        return fail(ErrorKind::not_understood, "this is not a catalog", path.string(),
                    "dredger scan SOURCE -c CATALOG makes one");
    // Reading a catalog that a scan is writing needs its shared-memory file, which a read-only folder does not allow:
    // where somebody else has made it, it will do.
    if (!can_be_written_beside(path) && !fs::exists(path.string() + "-shm", failed)) {
        const fs::path log = path.string() + "-wal";
        if (fs::exists(log, failed) && fs::file_size(log, failed) > 0)
            return fail(ErrorKind::unreadable,
                        "this catalog was not closed, and can't be read where nothing can be written", path.string(),
                        "copy it together with its -wal file to a folder that can be written");
        DREDGER_TRY(Database unchanging, Database::open(path.string(), Database::Mode::unchanging));
        return checked(path, std::move(unchanging));
    }
    auto opened = Database::open(path.string(), Database::Mode::read_write);
    if (!opened) opened = Database::open(path.string(), Database::Mode::read_only);
    if (!opened) return tl::unexpected<Error>(opened.error());
    return checked(path, std::move(*opened));
}

Result<std::string> Store::uuid() const {
    DREDGER_TRY(Statement row, database_.prepare("SELECT uuid FROM catalog"));
    DREDGER_TRY(const bool there, row.step());
    return there ? row.text(0) : std::string();
}

Result<std::vector<ScannedSource>> Store::sources() const {
    DREDGER_TRY(Statement rows,
                database_.prepare("SELECT id, path, size, serial, samples, scan FROM sources ORDER BY id"));
    std::vector<ScannedSource> list;
    DREDGER_CHECK(rows.each([&] {
        list.push_back({rows.number(0),
                        rows.text(1),
                        {loaded(rows.number(2)), rows.text(3), strings_from(rows.text(4))},
                        rows.text(5)});
    }));
    return list;
}

Result<std::vector<ScannedVolume>> Store::volumes() const {
    DREDGER_TRY(
        Statement rows,
        database_.prepare(
            "SELECT id, source, number, offset, length, partition_table, filesystem, label, "
            "serial, cluster_size, used, warnings, settings, done, map_is_trusted, pieces, find FROM volumes ORDER "
            "BY id"));
    std::vector<ScannedVolume> list;
    DREDGER_CHECK(rows.each([&] {
        ScannedVolume v;
        v.id = rows.number(0);
        v.source = rows.number(1);
        v.place.number = static_cast<unsigned>(rows.number(2));
        v.place.offset = loaded(rows.number(3));
        v.place.length = loaded(rows.number(4));
        v.place.table = static_cast<TableKind>(rows.number(5));
        v.facts = {rows.text(6),
                   rows.text(7),
                   rows.text(8),
                   loaded(rows.number(9)),
                   v.place.length,
                   loaded(rows.number(10)),
                   strings_from(rows.text(11))};
        v.settings = rows.text(12);
        v.done = rows.number(13) != kUnfinished;
        v.has_more = rows.number(13) == kHasMore;
        v.map_is_trusted = rows.number(14) != 0;
        v.place.pieces = rows::extents_from(rows.text(15));
        v.find = rows.number(16);
        list.push_back(std::move(v));
    }));
    return list;
}

Result<std::int64_t> Store::add_source(const ScannedSource& source) {
    DREDGER_TRY(
        Statement insert,
        database_.prepare("INSERT INTO sources (path, size, serial, samples, compared, scan) VALUES (?,?,?,?,0,?)"));
    insert.bind(1, source.path).bind(2, stored(source.identity.size)).bind(3, source.identity.serial);
    insert.bind(4, json_of(source.identity.samples)).bind(5, source.scan.empty() ? unique_id() : source.scan);
    DREDGER_CHECK(insert.run());
    return database_.last_id();
}

Result<std::int64_t> Store::add_volume(const ScannedVolume& v) {
    DREDGER_TRY(
        Statement insert,
        database_.prepare("INSERT INTO volumes (source, number, offset, length, partition_table, filesystem, label, "
                          "serial, cluster_size, used, warnings, settings, pieces, find, done, map_is_trusted) "
                          "VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,0,1)"));
    insert.bind(1, v.source)
        .bind(2, std::int64_t{v.place.number})
        .bind(3, stored(v.place.offset))
        .bind(4, stored(v.place.length));
    insert.bind(5, static_cast<std::int64_t>(v.place.table)).bind(6, v.facts.filesystem).bind(7, v.facts.label);
    insert.bind(8, v.facts.serial).bind(9, stored(v.facts.cluster_size)).bind(10, stored(v.facts.used));
    insert.bind(11, json_of(v.facts.warnings)).bind(12, v.settings).bind(13, json_of(v.place.pieces));
    insert.bind(14, v.find);
    DREDGER_CHECK(insert.run());
    return database_.last_id();
}

Result<void> Store::finish_volume(const ScannedVolume& v) {
    // Made when the rows are there, it costs a fraction of keeping it up to date row by row.
    DREDGER_CHECK(database_.execute(
        fmt::format("CREATE INDEX IF NOT EXISTS finds_by_worth ON candidates "
                    "(is_folder, prospect DESC, chk, folder, name, id) WHERE state > {0} AND NOT is_own;"
                    "CREATE INDEX IF NOT EXISTS finds_in_folders ON candidates "
                    "(folder, name, id, is_folder, band, size, prospect, state) WHERE state > {0} AND NOT is_own;"
                    "CREATE INDEX IF NOT EXISTS extents_by_place ON extents (size_class, offset) WHERE held = {1};"
                    "CREATE INDEX IF NOT EXISTS figures_of_candidates ON candidates "
                    "(state, is_own, is_folder, band, prospect, size, kind, format, volume, origin, chk, modified, "
                    "created, deleted, modified_clock, created_clock, deleted_clock)",
                    code(State::live), code(Held::stored))
            .c_str()));
    DREDGER_TRY(Statement update,
                database_.prepare("UPDATE volumes SET done=?, warnings=?, map_is_trusted=?, settings=? WHERE id=?"));
    update.bind(1, std::int64_t{kFinished}).bind(2, json_of(v.facts.warnings)).bind(3, std::int64_t{v.map_is_trusted});
    DREDGER_CHECK(update.bind(4, v.settings).bind(5, v.id).run());
    return summarise();
}

Result<void> Store::expect_more_of(const std::vector<std::int64_t>& volumes) {
    for (const std::string& sql :
         {fmt::format("UPDATE volumes SET done={} WHERE (id=?1 OR find IN (SELECT id FROM candidates WHERE volume=?1)) "
                      "AND done<>{}",
                      std::int64_t{kHasMore}, std::int64_t{kUnfinished}),
          std::string("UPDATE sweeps SET settings='', checked=0, position=0, state='', traces='', done=0 WHERE "
                      "volume=?1"),
          std::string("UPDATE candidates SET content=0 WHERE volume=?1"),
          std::string("UPDATE sources SET compared=0 WHERE id=(SELECT source FROM volumes WHERE id=?1)")}) {
        DREDGER_TRY(Statement change, database_.prepare(sql));
        for (const std::int64_t volume : volumes) DREDGER_CHECK(change.bind(1, volume).run());
    }
    return {};
}

Result<std::vector<Extent>> Store::bad_areas(std::int64_t source, ToldBy by) const {
    DREDGER_TRY(
        Statement rows,
        database_.prepare("SELECT offset, length FROM unreadable WHERE source=? AND told_by=? ORDER BY offset"));
    rows.bind(1, source).bind(2, code(by));
    std::vector<Extent> areas;
    DREDGER_CHECK(rows.each([&] { areas.push_back({loaded(rows.number(0)), loaded(rows.number(1))}); }));
    return areas;
}

Result<void> Store::save_bad_areas(std::int64_t source, const std::vector<Extent>& areas, ToldBy by) {
    DREDGER_TRY(Statement remove, database_.prepare("DELETE FROM unreadable WHERE source=? AND told_by=?"));
    DREDGER_CHECK(remove.bind(1, source).bind(2, code(by)).run());
    DREDGER_TRY(Statement add, database_.prepare("INSERT OR REPLACE INTO unreadable VALUES (?,?,?,?)"));
    for (const Extent& area : areas) {
        add.bind(1, source).bind(2, stored(area.offset)).bind(3, stored(area.length));
        DREDGER_CHECK(add.bind(4, code(by)).run());
    }
    return {};
}

Result<std::optional<Sweep>> Store::sweep_of(std::int64_t volume) const {
    DREDGER_TRY(Statement row,
                database_.prepare("SELECT settings, checked, position, total, state, traces, done FROM sweeps WHERE "
                                  "volume=?"));
    DREDGER_TRY(const bool there, row.bind(1, volume).step());
    if (!there) return std::nullopt;
    return Sweep{volume,      row.text(0), row.number(1),     loaded(row.number(2)), loaded(row.number(3)),
                 row.text(4), row.text(5), row.number(6) != 0};
}

Result<void> Store::save_sweep(const Sweep& sweep) {
    // The finds are matched with the records by where they begin.
    DREDGER_CHECK(database_.execute(
        fmt::format("CREATE INDEX IF NOT EXISTS extents_by_start ON extents (offset) WHERE position = 0 AND held = {}",
                    code(Held::stored))
            .c_str()));
    DREDGER_TRY(Statement save,
                database_.prepare("INSERT OR REPLACE INTO sweeps (volume, settings, checked, position, total, state, "
                                  "traces, done) VALUES (?,?,?,?,?,?,?,?)"));
    save.bind(1, sweep.volume).bind(2, sweep.settings).bind(3, sweep.checked).bind(4, stored(sweep.position));
    save.bind(5, stored(sweep.total)).bind(6, sweep.state).bind(7, sweep.traces).bind(8, std::int64_t{sweep.done});
    DREDGER_CHECK(save.run());
    return sweep.done ? summarise() : Result<void>();
}

Result<std::vector<Extent>> Store::ground_of(std::int64_t volume) const {
    DREDGER_TRY(Statement row, database_.prepare("SELECT extents FROM grounds WHERE volume=?"));
    DREDGER_TRY(const bool there, row.bind(1, volume).step());
    return there ? rows::extents_from(row.text(0)) : std::vector<Extent>();
}

Result<void> Store::save_ground(std::int64_t volume, const std::vector<Extent>& ground) {
    DREDGER_TRY(Statement save, database_.prepare("INSERT OR REPLACE INTO grounds (volume, extents) VALUES (?,?)"));
    return save.bind(1, volume).bind(2, json_of(ground)).run();
}

Result<void> Store::remove_volume(std::int64_t volume) {
    DREDGER_CHECK(database_.execute("DELETE FROM summary"));
    for (const char* sql : {"DELETE FROM extents WHERE candidate IN (SELECT id FROM candidates WHERE volume=?)",
                            "DELETE FROM packs WHERE candidate IN (SELECT id FROM candidates WHERE volume=?)",
                            "DELETE FROM sums WHERE candidate IN (SELECT id FROM candidates WHERE volume=?)",
                            "DELETE FROM candidates WHERE volume=?", "DELETE FROM sweeps WHERE volume=?",
                            "DELETE FROM grounds WHERE volume=?", "DELETE FROM volumes WHERE id=?"}) {
        DREDGER_TRY(Statement remove, database_.prepare(sql));
        DREDGER_CHECK(remove.bind(1, volume).run());
    }
    return {};
}

// What changes is not what the summary tells any more.
Result<void> Store::begin() { return database_.execute("BEGIN IMMEDIATE; DELETE FROM summary;"); }

Result<void> Store::commit() {
    if (condition_) {
        if (auto met = condition_(); !met) {
            roll_back();
            return met;
        }
    }
    return database_.execute("COMMIT");
}

void Store::roll_back() {
    if (sqlite3_get_autocommit(database_.handle()) == 0) (void)database_.execute("ROLLBACK");
}

Result<void> Store::summarise() {
    const Condition usual = condition_for(usual_selection());
    return database_.execute(fmt::format("DELETE FROM summary; INSERT INTO summary SELECT {} FROM candidates WHERE {} "
                                         "HAVING count(*) > 0;",
                                         rows::kTotalColumns, usual.sql)
                                 .c_str());
}

Result<std::int64_t> Store::next_id() const {
    return database_.number("SELECT coalesce(max(id), 0) + 1 FROM candidates");
}

Result<void> Store::add(const Candidate& candidate) {
    rows::bind_candidate(add_candidate_, candidate);
    DREDGER_CHECK(add_candidate_.run());
    return add_layout(candidate);
}

Result<void> Store::add_layout(const Candidate& c) {
    const MediumLayout& layout = c.layout;
    for (std::size_t i = 0; i < layout.extents.size(); ++i) {
        const LayoutExtent& extent = layout.extents[i];
        add_extent_.bind(1, c.id).bind(2, static_cast<std::int64_t>(i)).bind(3, code(extent.held));
        add_extent_.bind(4, stored(extent.offset)).bind(5, stored(extent.length));
        DREDGER_CHECK(add_extent_.bind(6, std::int64_t{rows::size_class_of(extent.length)}).run());
        if (!extent.pack.is_packed()) continue;
        DREDGER_TRY(Statement add, database_.prepare("INSERT INTO packs VALUES (?,?,?,?,?,?)"));
        add.bind(1, c.id).bind(2, static_cast<std::int64_t>(i)).bind(3, code(extent.pack.method));
        add.bind(4, std::int64_t{extent.pack.content}).bind(5, std::int64_t{extent.pack.skip});
        DREDGER_CHECK(add.bind(6, std::int64_t{extent.pack.unpacked}).run());
    }
    if (!layout.sums.empty()) {
        DREDGER_TRY(Statement add, database_.prepare("INSERT INTO sums VALUES (?,?,?)"));
        add.bind(1, c.id).bind(2, std::int64_t{layout.sum_unit}).bind(3, std::as_bytes(std::span(layout.sums)));
        DREDGER_CHECK(add.run());
    }
    return {};
}

Result<void> Store::update(const Candidate& c) {
    DREDGER_TRY(Statement change,
                database_.prepare(fmt::format("UPDATE candidates SET {} WHERE id=?", rows::assignments())));
    const int last = rows::bind_candidate(change, c);
    DREDGER_CHECK(change.bind(last, c.id).run());
    DREDGER_CHECK(remove_layout(c.id));
    return add_layout(c);
}

Result<void> Store::remove(const std::vector<std::int64_t>& candidates) {
    DREDGER_TRY(Statement remove, database_.prepare("DELETE FROM candidates WHERE id=?"));
    for (const std::int64_t candidate : candidates) {
        DREDGER_CHECK(remove_layout(candidate));
        DREDGER_CHECK(remove.bind(1, candidate).run());
    }
    return {};
}

Result<void> Store::remove_layout(std::int64_t candidate) {
    for (const char* table : {"packs", "sums", "extents"}) {
        DREDGER_TRY(Statement forget, database_.prepare(fmt::format("DELETE FROM {} WHERE candidate=?", table)));
        DREDGER_CHECK(forget.bind(1, candidate).run());
    }
    return {};
}

bool Store::keep(const std::vector<Learnt>& learnt) {
    if (learnt.empty()) return true;
    const auto write = [&]() -> Result<void> {
        DREDGER_CHECK(begin());
        DREDGER_TRY(Statement change,
                    database_.prepare(fmt::format("UPDATE candidates SET {} WHERE id=?", rows::learnt_assignments())));
        for (const Learnt& c : learnt) {
            const int last = rows::bind_learnt(change, c);
            DREDGER_CHECK(change.bind(last, c.id).run());
        }
        DREDGER_CHECK(summarise());
        return commit();
    };
    if (write()) return true;
    roll_back();
    return false;
}

Result<std::int64_t> Store::compared_to(std::int64_t source) const {
    DREDGER_TRY(Statement row, database_.prepare("SELECT compared FROM sources WHERE id=?"));
    DREDGER_TRY(const bool there, row.bind(1, source).step());
    return there ? row.number(0) : 0;
}

Result<void> Store::save_compared(std::int64_t source, std::int64_t last) {
    DREDGER_TRY(Statement save, database_.prepare("UPDATE sources SET compared=? WHERE id=?"));
    return save.bind(1, last).bind(2, source).run();
}

Result<void> Store::save_content(std::int64_t candidate, std::int64_t content) {
    DREDGER_TRY(Statement save, database_.prepare("UPDATE candidates SET content=? WHERE id=?"));
    return save.bind(1, content).bind(2, candidate).run();
}

Result<void> Store::save_copies(std::int64_t source, const std::map<std::int64_t, SafetyCopy>& copies) {
    DREDGER_TRY(const std::int64_t known, database_.number("SELECT count(*) FROM candidates WHERE role > 0"));
    if (copies.empty() && known == 0) return {};
    const auto write = [&]() -> Result<void> {
        DREDGER_CHECK(begin());
        DREDGER_TRY(Statement forget,
                    database_.prepare("UPDATE candidates SET role=0, document='', as_of=NULL, as_of_ns=NULL, "
                                      "as_of_clock=NULL, role_why='' WHERE role>0 AND volume IN (SELECT id FROM "
                                      "volumes WHERE source=?)"));
        DREDGER_CHECK(forget.bind(1, source).run());
        DREDGER_TRY(Statement save, database_.prepare("UPDATE candidates SET role=?, document=?, role_why=?, as_of=?, "
                                                      "as_of_ns=?, as_of_clock=? WHERE id=?"));
        for (const auto& [id, copy] : copies) {
            save.bind(1, code(copy.role)).bind(2, copy.of).bind(3, copy.why).bind(7, id);
            if (copy.as_of) {
                save.bind(4, copy.as_of->seconds).bind(5, std::int64_t{copy.as_of->nanoseconds});
                save.bind(6, code(copy.as_of->clock));
            } else {
                for (const int part : {4, 5, 6}) save.bind_null(part);
            }
            DREDGER_CHECK(save.run());
        }
        DREDGER_CHECK(summarise());
        return commit();
    };
    auto done = write();
    if (!done) roll_back();
    return done;
}

Result<std::vector<Candidate>> Store::beginning_at(std::int64_t volume, std::uint64_t offset) const {
    beginning_.bind(1, stored(offset)).bind(2, volume);
    DREDGER_TRY(std::vector<Candidate> list, rows::candidates_of(beginning_));
    for (Candidate& candidate : list) DREDGER_CHECK(load_layout(candidate));
    return list;
}

Result<std::vector<Candidate>> Store::to_check(std::int64_t volume, std::int64_t after, std::size_t most) const {
    DREDGER_TRY(Statement rows,
                database_.prepare(
                    fmt::format("SELECT {} FROM candidates WHERE volume=? AND id>? AND state<>{} AND is_folder=0 AND "
                                "origin<>{} AND checked=0 ORDER BY id LIMIT ?",
                                rows::columns(), code(State::live), code(Origin::signature))));
    rows.bind(1, volume).bind(2, after).bind(3, static_cast<std::int64_t>(most));
    DREDGER_TRY(std::vector<Candidate> list, rows::candidates_of(rows));
    for (Candidate& candidate : list) DREDGER_CHECK(load_layout(candidate));
    return list;
}

Result<void> Store::remove_finds(std::int64_t volume) {
    for (const char* sql : {"DELETE FROM extents WHERE candidate IN (SELECT id FROM candidates WHERE volume=? AND "
                            "origin=?)",
                            "DELETE FROM candidates WHERE volume=? AND origin=?"}) {
        DREDGER_TRY(Statement remove, database_.prepare(sql));
        DREDGER_CHECK(remove.bind(1, volume).bind(2, code(Origin::signature)).run());
    }
    return {};
}

Result<void> Store::remove_finds(const std::vector<std::int64_t>& candidates) {
    DREDGER_TRY(Statement extents, database_.prepare("DELETE FROM extents WHERE candidate=?"));
    DREDGER_TRY(Statement rows, database_.prepare("DELETE FROM candidates WHERE id=? AND origin=?"));
    for (const std::int64_t candidate : candidates) {
        DREDGER_CHECK(extents.bind(1, candidate).run());
        DREDGER_CHECK(rows.bind(1, candidate).bind(2, code(Origin::signature)).run());
    }
    return {};
}

Result<void> Store::load_layout(Candidate& candidate) const {
    MediumLayout& layout = candidate.layout;
    layout_.bind(1, candidate.id);
    DREDGER_CHECK(layout_.each([&] {
        layout.extents.emplace_back(
            Extent{loaded(layout_.number(1)), loaded(layout_.number(2)), static_cast<Held>(layout_.number(0))});
    }));
    if (layout.codec == Codec::each) DREDGER_CHECK(load_packs(candidate));
    // Few candidates have sums.
    sums_.bind(1, candidate.id);
    return sums_.each([&] {
        layout.sum_unit = static_cast<std::uint32_t>(sums_.number(0));
        const auto bytes = sums_.blob(1);
        layout.sums.resize(bytes.size() / sizeof(std::uint32_t));
        std::memcpy(layout.sums.data(), bytes.data(), layout.sums.size() * sizeof(std::uint32_t));
    });
}

Result<void> Store::load_packs(Candidate& candidate) const {
    DREDGER_TRY(Statement rows,
                database_.prepare("SELECT position, codec, content, skip, unpacked FROM packs WHERE candidate=?"));
    rows.bind(1, candidate.id);
    return rows.each([&] {
        const auto position = static_cast<std::size_t>(rows.number(0));
        const auto part = [&](int column) { return static_cast<std::uint32_t>(rows.number(column)); };
        if (position < candidate.layout.extents.size())
            candidate.layout.extents[position].pack = {static_cast<Pack::Method>(rows.number(1)), part(3), part(4),
                                                       part(2)};
    });
}

Result<std::optional<Candidate>> Store::row_of(std::int64_t id) const {
    find_.bind(1, id);
    std::optional<Candidate> found;
    DREDGER_CHECK(find_.each([&] {
        found = candidate_at(find_);
        return false;
    }));
    return found;
}

Result<std::optional<Candidate>> Store::find(std::int64_t id) const {
    DREDGER_TRY(std::optional<Candidate> found, row_of(id));
    if (found) DREDGER_CHECK(load_layout(*found));
    return found;
}

}  // namespace dredger

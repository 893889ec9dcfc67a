#include "catalog/catalog.h"

#include <fmt/format.h>
#include <fstream>
#include <limits>
#include <sqlite3.h>

namespace dredger {
namespace {

namespace fs = std::filesystem;
using sqlite::Database;
using sqlite::Statement;

constexpr int kApplicationId = 0x44524447;  // "DRDG": what `file` and SQLite call the kind of database

constexpr const char* kSchema = R"(
CREATE TABLE sources (
    id INTEGER PRIMARY KEY, path TEXT NOT NULL, size INTEGER NOT NULL, serial TEXT NOT NULL, samples TEXT NOT NULL);
CREATE TABLE volumes (
    id INTEGER PRIMARY KEY, source INTEGER NOT NULL REFERENCES sources, number INTEGER NOT NULL, offset INTEGER NOT NULL,
    length INTEGER NOT NULL, partition_table INTEGER NOT NULL, filesystem TEXT NOT NULL, label TEXT NOT NULL,
    serial TEXT NOT NULL, cluster_size INTEGER NOT NULL, used INTEGER NOT NULL, warnings TEXT NOT NULL,
    settings TEXT NOT NULL, done INTEGER NOT NULL, map_is_trusted INTEGER NOT NULL);
CREATE TABLE sweeps (
    volume INTEGER PRIMARY KEY REFERENCES volumes, settings TEXT NOT NULL, checked INTEGER NOT NULL,
    position INTEGER NOT NULL, total INTEGER NOT NULL, state TEXT NOT NULL, done INTEGER NOT NULL);
CREATE TABLE candidates (
    id INTEGER PRIMARY KEY, volume INTEGER NOT NULL REFERENCES volumes, record INTEGER NOT NULL, state INTEGER NOT NULL,
    origin INTEGER NOT NULL, is_folder INTEGER NOT NULL, folder TEXT NOT NULL, name TEXT NOT NULL,
    name_is_whole INTEGER NOT NULL, size INTEGER NOT NULL, kind INTEGER NOT NULL, format TEXT NOT NULL,
    created INTEGER, created_ns INTEGER, modified INTEGER, modified_ns INTEGER, accessed INTEGER, accessed_ns INTEGER,
    changed INTEGER, changed_ns INTEGER, deleted INTEGER, deleted_ns INTEGER, clock INTEGER NOT NULL,
    attributes TEXT NOT NULL, facts TEXT NOT NULL, trust INTEGER NOT NULL, codec INTEGER NOT NULL, unit INTEGER NOT NULL,
    within_records INTEGER NOT NULL, prospect INTEGER NOT NULL, band INTEGER NOT NULL, chk INTEGER NOT NULL,
    reasons TEXT NOT NULL, proof INTEGER NOT NULL);
CREATE TABLE extents (
    candidate INTEGER NOT NULL REFERENCES candidates, position INTEGER NOT NULL, offset INTEGER NOT NULL,
    length INTEGER NOT NULL, PRIMARY KEY (candidate, position)) WITHOUT ROWID;
CREATE TABLE summary (
    folders INTEGER NOT NULL, sound INTEGER NOT NULL, patchy INTEGER NOT NULL, faint INTEGER NOT NULL,
    gone INTEGER NOT NULL, bytes INTEGER NOT NULL, expected_bytes REAL NOT NULL);
)";

constexpr const char* kColumns =
    "id, volume, record, state, origin, is_folder, folder, name, name_is_whole, size, kind, format, created, "
    "created_ns, modified, modified_ns, accessed, accessed_ns, changed, changed_ns, deleted, deleted_ns, clock, "
    "attributes, facts, trust, codec, unit, within_records, prospect, band, chk, reasons, proof";
constexpr int kColumnCount = 34;

// The totals of any candidates.
constexpr const char* kTotalColumns =
    "sum(is_folder), sum(NOT is_folder AND band=0), sum(NOT is_folder AND band=1), sum(NOT is_folder AND band=2), "
    "sum(NOT is_folder AND band=3), sum(CASE WHEN is_folder THEN 0 ELSE size END), "
    "sum(CASE WHEN is_folder THEN 0.0 ELSE size * (prospect / 100.0) END)";

// SQLite holds signed numbers; stretches that no medium holds are negative, everything else is smaller.
std::int64_t stored(std::uint64_t value) { return static_cast<std::int64_t>(value); }
std::uint64_t loaded(std::int64_t value) { return static_cast<std::uint64_t>(value); }

// Lists of sentences and words are kept a line each.
std::string list_text(const std::vector<std::string>& list) {
    std::string text;
    for (const std::string& line : list) {
        if (!text.empty()) text += '\n';
        text += line;
    }
    return text;
}

std::vector<std::string> list_from(const std::string& text) {
    std::vector<std::string> list;
    for (std::size_t from = 0; from < text.size();) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        list.push_back(text.substr(from, end - from));
        from = end + 1;
    }
    return list;
}

// A fact is kept as "NAME: VALUE".
std::string facts_text(const std::vector<Fact>& facts) {
    std::vector<std::string> lines;
    for (const Fact& fact : facts) lines.push_back(fmt::format("{}: {}", fact.name, fact.value));
    return list_text(lines);
}

std::vector<Fact> facts_from(const std::string& text) {
    std::vector<Fact> facts;
    for (const std::string& line : list_from(text)) {
        const std::size_t colon = std::min(line.find(": "), line.size());
        facts.push_back({line.substr(0, colon), line.substr(std::min(colon + 2, line.size()))});
    }
    return facts;
}

void text_function(sqlite3_context* context, sqlite3_value* value, std::string (*function)(std::string_view)) {
    const auto* text = reinterpret_cast<const char*>(sqlite3_value_text(value));
    if (text == nullptr) return sqlite3_result_null(context);
    const std::string result = function({text, static_cast<std::size_t>(sqlite3_value_bytes(value))});
    sqlite3_result_text(context, result.data(), static_cast<int>(result.size()), SQLITE_TRANSIENT);
}

void add_functions(const Database& database) {
    constexpr int kFlags = SQLITE_UTF8 | SQLITE_DETERMINISTIC;
    sqlite3_create_function(
        database.handle(), "folded", 1, kFlags, nullptr,
        [](sqlite3_context* c, int, sqlite3_value** v) { text_function(c, v[0], folded); }, nullptr, nullptr);
    sqlite3_create_function(
        database.handle(), "extension_of", 1, kFlags, nullptr,
        [](sqlite3_context* c, int, sqlite3_value** v) { text_function(c, v[0], extension_of); }, nullptr, nullptr);
}

void bind_time(Statement& statement, int at, const std::optional<FileTime>& time) {
    if (!time) {
        statement.bind_null(at).bind_null(at + 1);
        return;
    }
    statement.bind(at, time->seconds).bind(at + 1, std::int64_t{time->nanoseconds});
}

std::optional<FileTime> time_at(const Statement& row, int at, FileTime::Clock clock) {
    if (row.is_null(at)) return std::nullopt;
    return FileTime{row.number(at), static_cast<std::uint32_t>(row.number(at + 1)), clock};
}

FileTime::Clock clock_of(const Record& record) {
    for (const auto& time : {record.created, record.modified, record.accessed, record.changed, record.deleted})
        if (time) return time->clock;
    return FileTime::Clock::utc;
}

Candidate candidate_at(const Statement& row) {
    Candidate c;
    const auto clock = static_cast<FileTime::Clock>(row.number(22));
    c.id = row.number(0);
    c.volume = row.number(1);
    c.record.id = loaded(row.number(2));
    c.record.state = static_cast<State>(row.number(3));
    c.record.origin = static_cast<Origin>(row.number(4));
    c.record.is_folder = row.number(5) != 0;
    c.record.folder = row.text(6);
    c.record.name = row.text(7);
    c.record.name_is_whole = row.number(8) != 0;
    c.record.size = loaded(row.number(9));
    c.kind = static_cast<Kind>(row.number(10));
    c.format = row.text(11);
    c.record.created = time_at(row, 12, clock);
    c.record.modified = time_at(row, 14, clock);
    c.record.accessed = time_at(row, 16, clock);
    c.record.changed = time_at(row, 18, clock);
    c.record.deleted = time_at(row, 20, clock);
    c.record.attributes = list_from(row.text(23));
    c.record.facts = facts_from(row.text(24));
    c.record.trust = static_cast<LayoutTrust>(row.number(25));
    c.record.layout.codec = static_cast<Codec>(row.number(26));
    c.record.layout.unit = static_cast<std::uint32_t>(row.number(27));
    c.record.layout.within_records = row.number(28) != 0;
    c.prospect.value = static_cast<int>(row.number(29));
    c.prospect.band = static_cast<Band>(row.number(30));
    c.prospect.check = static_cast<Check>(row.number(31));
    c.prospect.reasons = list_from(row.text(32));
    c.proof = static_cast<Proof>(row.number(33));
    return c;
}

void bind_values(Statement& statement, const Condition& condition) {
    int parameter = 0;
    for (const Condition::Value& value : condition.values) {
        ++parameter;
        if (value.is_text)
            statement.bind(parameter, value.text);
        else
            statement.bind(parameter, value.number);
    }
}

bool begins_as_database(const fs::path& path) {
    std::ifstream in(path, std::ios::binary);
    char head[16] = {};
    in.read(head, sizeof head);
    return in.gcount() == 0 || std::string_view(head, sizeof head) == std::string_view("SQLite format 3\0", 16);
}

}  // namespace

Catalog::Catalog(fs::path path, Database database) : path_(std::move(path)), database_(std::move(database)) {}

Result<Catalog> Catalog::checked(const fs::path& path, Database database) {
    const auto application = database.number("PRAGMA application_id");
    if (!application) return tl::unexpected<Error>(application.error());
    if (*application != kApplicationId)
        return fail(ErrorKind::not_understood, "this is not a catalog", path.string(),
                    "dredger scan makes one: -c NAME.dredge");
    DREDGER_TRY(const std::int64_t version, database.number("PRAGMA user_version"));
    if (version != kVersion)
        return fail(ErrorKind::not_understood,
                    fmt::format("this catalog has version {}, this program knows version {}", version, kVersion),
                    path.string(), version > kVersion ? "use a newer dredger" : "scan again into a new catalog");
    add_functions(database);
    Catalog catalog(path, std::move(database));
    DREDGER_TRY(catalog.add_candidate_,
                catalog.database_.prepare(fmt::format("INSERT INTO candidates ({}) VALUES (?{})", kColumns, [] {
                    std::string marks;
                    for (int i = 1; i < kColumnCount; ++i) marks += ",?";
                    return marks;
                }())));
    DREDGER_TRY(catalog.add_extent_, catalog.database_.prepare("INSERT INTO extents VALUES (?,?,?,?)"));
    DREDGER_TRY(catalog.find_,
                catalog.database_.prepare(fmt::format("SELECT {} FROM candidates WHERE id=?", kColumns)));
    DREDGER_TRY(catalog.layout_,
                catalog.database_.prepare("SELECT offset, length FROM extents WHERE candidate=? ORDER BY position"));
    DREDGER_TRY(catalog.name_, catalog.database_.prepare(
                                   "SELECT folder, name, coalesce(created, modified) FROM candidates WHERE id=?"));
    DREDGER_TRY(catalog.beginning_,
                catalog.database_.prepare(fmt::format("SELECT {} FROM candidates WHERE id IN (SELECT candidate FROM "
                                                      "extents WHERE position = 0 AND offset = ?) AND volume=? AND "
                                                      "state<>0 AND is_folder=0 ORDER BY id",
                                                      kColumns)));
    return catalog;
}

Result<Catalog> Catalog::open_for_scan(const fs::path& path) {
    std::error_code failed;
    const bool exists = fs::exists(path, failed);
    if (exists && (fs::is_directory(path, failed) || !begins_as_database(path)))
        return fail(ErrorKind::not_understood, "this is not a catalog, and is left alone", path.string(),
                    "give another name after -c");
    auto opened = Database::open(path.string(), Database::Mode::create);
    if (!opened)
        return fail(ErrorKind::output, "the catalog can't be written here", path.string(),
                    "check that the folder exists and is yours");
    Database database = std::move(*opened);
    DREDGER_CHECK(database.execute("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA cache_size=-16384;"));
    DREDGER_TRY(const std::int64_t tables, database.number("SELECT count(*) FROM sqlite_master"));
    if (tables == 0) {
        const std::string setup = fmt::format("BEGIN; PRAGMA application_id={}; PRAGMA user_version={}; {} COMMIT;",
                                              kApplicationId, kVersion, kSchema);
        DREDGER_CHECK(database.execute(setup.c_str()));
    }
    return checked(path, std::move(database));
}

Result<Catalog> Catalog::open(const fs::path& path) {
    std::error_code failed;
    if (!fs::exists(path, failed))
        return fail(ErrorKind::unreadable, "no such catalog", path.string(),
                    "dredger scan SOURCE -c CATALOG makes one");
    if (fs::is_directory(path, failed) || !begins_as_database(path))
        return fail(ErrorKind::not_understood, "this is not a catalog", path.string(),
                    "dredger scan SOURCE -c CATALOG makes one");
    // Reading a catalog that a scan is writing needs its shared-memory file, which a read-only folder does not allow.
    auto opened = Database::open(path.string(), Database::Mode::read_write);
    if (!opened) opened = Database::open(path.string(), Database::Mode::read_only);
    if (!opened) return tl::unexpected<Error>(opened.error());
    return checked(path, std::move(*opened));
}

Result<std::vector<ScannedSource>> Catalog::sources() const {
    DREDGER_TRY(Statement rows, database_.prepare("SELECT id, path, size, serial, samples FROM sources ORDER BY id"));
    std::vector<ScannedSource> list;
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return list;
        list.push_back({rows.number(0), rows.text(1), {loaded(rows.number(2)), rows.text(3), list_from(rows.text(4))}});
    }
}

Result<std::vector<ScannedVolume>> Catalog::volumes() const {
    DREDGER_TRY(Statement rows,
                database_.prepare(
                    "SELECT id, source, number, offset, length, partition_table, filesystem, label, "
                    "serial, cluster_size, used, warnings, settings, done, map_is_trusted FROM volumes ORDER BY id"));
    std::vector<ScannedVolume> list;
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return list;
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
                   list_from(rows.text(11))};
        v.settings = rows.text(12);
        v.done = rows.number(13) != 0;
        v.map_is_trusted = rows.number(14) != 0;
        list.push_back(std::move(v));
    }
}

Result<std::int64_t> Catalog::add_source(const ScannedSource& source) {
    DREDGER_TRY(Statement insert, database_.prepare("INSERT INTO sources VALUES (NULL,?,?,?,?)"));
    insert.bind(1, source.path).bind(2, stored(source.identity.size)).bind(3, source.identity.serial);
    insert.bind(4, list_text(source.identity.samples));
    DREDGER_CHECK(insert.run());
    return database_.last_id();
}

Result<std::int64_t> Catalog::add_volume(const ScannedVolume& v) {
    DREDGER_TRY(Statement insert, database_.prepare("INSERT INTO volumes VALUES (NULL,?,?,?,?,?,?,?,?,?,?,?,?,0,1)"));
    insert.bind(1, v.source)
        .bind(2, std::int64_t{v.place.number})
        .bind(3, stored(v.place.offset))
        .bind(4, stored(v.place.length));
    insert.bind(5, static_cast<std::int64_t>(v.place.table)).bind(6, v.facts.filesystem).bind(7, v.facts.label);
    insert.bind(8, v.facts.serial).bind(9, stored(v.facts.cluster_size)).bind(10, stored(v.facts.used));
    insert.bind(11, list_text(v.facts.warnings)).bind(12, v.settings);
    DREDGER_CHECK(insert.run());
    return database_.last_id();
}

Result<void> Catalog::finish_volume(const ScannedVolume& v) {
    // Made when the rows are there, it costs a fraction of keeping it up to date row by row.
    DREDGER_CHECK(
        database_.execute("CREATE INDEX IF NOT EXISTS finds_by_prospect ON candidates "
                          "(is_folder, prospect DESC, folder, name, id) WHERE state > 0;"
                          "CREATE INDEX IF NOT EXISTS finds_by_path ON candidates "
                          "(folder, name, id, is_folder, band, size, prospect, state) WHERE state > 0;"
                          "CREATE INDEX IF NOT EXISTS candidates_figures ON candidates "
                          "(state, is_folder, band, prospect, size, kind, format, volume, origin, chk, modified, "
                          "created, deleted)"));
    DREDGER_TRY(Statement update,
                database_.prepare("UPDATE volumes SET done=1, warnings=?, map_is_trusted=? WHERE id=?"));
    DREDGER_CHECK(
        update.bind(1, list_text(v.facts.warnings)).bind(2, std::int64_t{v.map_is_trusted}).bind(3, v.id).run());
    return summarise();
}

Result<std::optional<Sweep>> Catalog::sweep_of(std::int64_t volume) const {
    DREDGER_TRY(Statement row,
                database_.prepare("SELECT settings, checked, position, total, state, done FROM sweeps WHERE volume=?"));
    DREDGER_TRY(const bool there, row.bind(1, volume).step());
    if (!there) return std::nullopt;
    return Sweep{volume,      row.text(0),       row.number(1), loaded(row.number(2)), loaded(row.number(3)),
                 row.text(4), row.number(5) != 0};
}

Result<void> Catalog::save_sweep(const Sweep& sweep) {
    // The finds are matched with the records by where they begin.
    DREDGER_CHECK(
        database_.execute("CREATE INDEX IF NOT EXISTS extents_by_start ON extents (offset) WHERE position = 0"));
    DREDGER_TRY(Statement save, database_.prepare("INSERT OR REPLACE INTO sweeps VALUES (?,?,?,?,?,?,?)"));
    save.bind(1, sweep.volume).bind(2, sweep.settings).bind(3, sweep.checked).bind(4, stored(sweep.position));
    DREDGER_CHECK(save.bind(5, stored(sweep.total)).bind(6, sweep.state).bind(7, std::int64_t{sweep.done}).run());
    return sweep.done ? summarise() : Result<void>();
}

Result<void> Catalog::remove_volume(std::int64_t volume) {
    DREDGER_CHECK(database_.execute("DELETE FROM summary"));
    for (const char* sql : {"DELETE FROM extents WHERE candidate IN (SELECT id FROM candidates WHERE volume=?)",
                            "DELETE FROM candidates WHERE volume=?", "DELETE FROM sweeps WHERE volume=?",
                            "DELETE FROM volumes WHERE id=?"}) {
        DREDGER_TRY(Statement remove, database_.prepare(sql));
        DREDGER_CHECK(remove.bind(1, volume).run());
    }
    return {};
}

// What changes is not what the summary tells any more.
Result<void> Catalog::begin() { return database_.execute("BEGIN IMMEDIATE; DELETE FROM summary;"); }
Result<void> Catalog::commit() { return database_.execute("COMMIT"); }
void Catalog::roll_back() {
    if (sqlite3_get_autocommit(database_.handle()) == 0) (void)database_.execute("ROLLBACK");
}

Result<std::int64_t> Catalog::next_id() const {
    return database_.number("SELECT coalesce(max(id), 0) + 1 FROM candidates");
}

Result<void> Catalog::add(const Candidate& c) {
    Statement& s = add_candidate_;
    s.bind(1, c.id).bind(2, c.volume).bind(3, stored(c.record.id)).bind(4, static_cast<std::int64_t>(c.record.state));
    s.bind(5, static_cast<std::int64_t>(c.record.origin))
        .bind(6, std::int64_t{c.record.is_folder})
        .bind(7, c.record.folder);
    s.bind(8, c.record.name).bind(9, std::int64_t{c.record.name_is_whole}).bind(10, stored(c.record.size));
    s.bind(11, static_cast<std::int64_t>(c.kind)).bind(12, c.format);
    bind_time(s, 13, c.record.created);
    bind_time(s, 15, c.record.modified);
    bind_time(s, 17, c.record.accessed);
    bind_time(s, 19, c.record.changed);
    bind_time(s, 21, c.record.deleted);
    s.bind(23, static_cast<std::int64_t>(clock_of(c.record))).bind(24, list_text(c.record.attributes));
    s.bind(25, facts_text(c.record.facts)).bind(26, static_cast<std::int64_t>(c.record.trust));
    s.bind(27, static_cast<std::int64_t>(c.record.layout.codec)).bind(28, std::int64_t{c.record.layout.unit});
    s.bind(29, std::int64_t{c.record.layout.within_records}).bind(30, std::int64_t{c.prospect.value});
    s.bind(31, static_cast<std::int64_t>(c.prospect.band)).bind(32, static_cast<std::int64_t>(c.prospect.check));
    s.bind(33, list_text(c.prospect.reasons)).bind(34, static_cast<std::int64_t>(c.proof));
    DREDGER_CHECK(s.run());
    return add_layout(c);
}

Result<void> Catalog::add_layout(const Candidate& c) {
    std::int64_t position = 0;
    for (const Extent& extent : c.record.layout.extents) {
        add_extent_.bind(1, c.id).bind(2, position++).bind(3, stored(extent.offset)).bind(4, stored(extent.length));
        DREDGER_CHECK(add_extent_.run());
    }
    return {};
}

Result<void> Catalog::update(const Candidate& c) {
    DREDGER_TRY(Statement change,
                database_.prepare("UPDATE candidates SET size=?, kind=?, format=?, facts=?, trust=?, codec=?, unit=?, "
                                  "within_records=?, prospect=?, band=?, chk=?, reasons=?, proof=? WHERE id=?"));
    const Layout& layout = c.record.layout;
    change.bind(1, stored(c.record.size)).bind(2, static_cast<std::int64_t>(c.kind)).bind(3, c.format);
    change.bind(4, facts_text(c.record.facts)).bind(5, static_cast<std::int64_t>(c.record.trust));
    change.bind(6, static_cast<std::int64_t>(layout.codec)).bind(7, std::int64_t{layout.unit});
    change.bind(8, std::int64_t{layout.within_records}).bind(9, std::int64_t{c.prospect.value});
    change.bind(10, static_cast<std::int64_t>(c.prospect.band)).bind(11, static_cast<std::int64_t>(c.prospect.check));
    change.bind(12, list_text(c.prospect.reasons)).bind(13, static_cast<std::int64_t>(c.proof)).bind(14, c.id);
    DREDGER_CHECK(change.run());
    DREDGER_TRY(Statement forget, database_.prepare("DELETE FROM extents WHERE candidate=?"));
    DREDGER_CHECK(forget.bind(1, c.id).run());
    return add_layout(c);
}

Result<std::vector<Candidate>> Catalog::beginning_at(std::int64_t volume, std::uint64_t offset) const {
    std::vector<Candidate> list;
    beginning_.bind(1, stored(offset)).bind(2, volume);
    for (;;) {
        const auto there = beginning_.step();
        if (!there || !*there) {
            beginning_.reset();
            if (!there) return tl::unexpected<Error>(there.error());
            break;
        }
        list.push_back(candidate_at(beginning_));
    }
    for (Candidate& candidate : list) DREDGER_CHECK(load_layout(candidate));
    return list;
}

Result<std::vector<Candidate>> Catalog::to_check(std::int64_t volume, std::int64_t after, std::size_t most) const {
    DREDGER_TRY(Statement rows,
                database_.prepare(
                    fmt::format("SELECT {} FROM candidates WHERE volume=? AND id>? AND state<>0 AND is_folder=0 AND "
                                "origin<>2 ORDER BY id LIMIT ?",
                                kColumns)));
    rows.bind(1, volume).bind(2, after).bind(3, static_cast<std::int64_t>(most));
    std::vector<Candidate> list;
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return list;
        list.push_back(candidate_at(rows));
        DREDGER_CHECK(load_layout(list.back()));
    }
}

Result<void> Catalog::each_piece(
    std::int64_t volume,
    const std::function<void(std::int64_t candidate, const Extent&, bool is_proven)>& visit) const {
    DREDGER_TRY(Statement rows,
                database_.prepare("SELECT c.id, e.offset, e.length, c.proof>=2 AND c.chk<=1 FROM candidates c JOIN "
                                  "extents e ON e.candidate = c.id WHERE c.volume=? AND c.state<>0 AND c.origin<>2 AND "
                                  "c.is_folder=0 AND c.codec=0 ORDER BY c.id, e.position"));
    rows.bind(1, volume);
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return {};
        visit(rows.number(0), {loaded(rows.number(1)), loaded(rows.number(2))}, rows.number(3) != 0);
    }
}

Result<void> Catalog::each_extent(
    const std::function<void(std::int64_t volume, State state, Band band, const Extent&)>& visit) const {
    DREDGER_TRY(
        Statement rows,
        database_.prepare("SELECT c.volume, c.state, c.band, e.offset, e.length FROM extents e JOIN candidates c "
                          "ON c.id = e.candidate WHERE e.offset >= 0 AND c.is_folder = 0"));
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return {};
        visit(rows.number(0), static_cast<State>(rows.number(1)), static_cast<Band>(rows.number(2)),
              {loaded(rows.number(3)), loaded(rows.number(4))});
    }
}

Result<void> Catalog::remove_finds(std::int64_t volume) {
    for (const char* sql :
         {"DELETE FROM extents WHERE candidate IN (SELECT id FROM candidates WHERE volume=? AND origin=2)",
          "DELETE FROM candidates WHERE volume=? AND origin=2"}) {
        DREDGER_TRY(Statement remove, database_.prepare(sql));
        DREDGER_CHECK(remove.bind(1, volume).run());
    }
    return {};
}

Result<void> Catalog::load_layout(Candidate& candidate) const {
    layout_.bind(1, candidate.id);
    for (;;) {
        const auto there = layout_.step();
        if (!there || !*there) {
            layout_.reset();
            return there ? Result<void>() : tl::unexpected<Error>(there.error());
        }
        candidate.record.layout.extents.push_back({loaded(layout_.number(0)), loaded(layout_.number(1))});
    }
}

Result<std::optional<Candidate>> Catalog::row_of(std::int64_t id) const {
    find_.bind(1, id);
    const auto there = find_.step();
    std::optional<Candidate> found;
    if (there && *there) found = candidate_at(find_);
    find_.reset();
    if (!there) return tl::unexpected<Error>(there.error());
    return found;
}

Result<std::optional<Candidate>> Catalog::find(std::int64_t id) const {
    DREDGER_TRY(std::optional<Candidate> found, row_of(id));
    if (found) DREDGER_CHECK(load_layout(*found));
    return found;
}

Result<std::int64_t> Catalog::count(const Selection& selection) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(Statement row, database_.prepare("SELECT count(*) FROM candidates WHERE " + condition.sql));
    bind_values(row, condition);
    DREDGER_TRY(const bool there, row.step());
    return there ? row.number(0) : 0;
}

namespace {

// From kTotalColumns, `first` being the first of them.
Totals totals_at(const Statement& row, int first) {
    Totals totals;
    totals.folders = loaded(row.number(first));
    for (int band = 0; band < 4; ++band) {
        totals.bands[static_cast<std::size_t>(band)] = loaded(row.number(first + 1 + band));
        totals.files += totals.bands[static_cast<std::size_t>(band)];
    }
    totals.bytes = loaded(row.number(first + 5));
    totals.expected_bytes = loaded(row.number(first + 6));
    return totals;
}

GroupTree::Path parts_of(const std::string& folder) {
    if (folder.empty()) return {""};
    GroupTree::Path path;
    for (std::size_t from = 0; from <= folder.size();) {
        const std::size_t end = std::min(folder.find('/', from), folder.size());
        path.push_back(folder.substr(from, end - from));
        from = end + 1;
    }
    return path;
}

constexpr std::int64_t kDay = 86'400;  // seconds

GroupTree::Path parts_of_day(std::int64_t day) {
    const std::string text = iso8601(FileTime{day * kDay, 0, FileTime::Clock::utc});
    return {text.substr(0, 4), text.substr(5, 2), text.substr(8, 2)};
}

}  // namespace

Result<void> Catalog::summarise() {
    const Condition usual = condition_for({});
    return database_.execute(fmt::format("DELETE FROM summary; INSERT INTO summary SELECT {} FROM candidates WHERE {} "
                                         "HAVING count(*) > 0;",
                                         kTotalColumns, usual.sql)
                                 .c_str());
}

Result<Totals> Catalog::totals(const Selection& selection) const {
    const Condition condition = condition_for(selection);
    if (condition.sql == condition_for({}).sql) {
        DREDGER_TRY(Statement kept, database_.prepare("SELECT * FROM summary"));
        DREDGER_TRY(const bool is_known, kept.step());
        if (is_known) return totals_at(kept, 0);
    }
    DREDGER_TRY(Statement row,
                database_.prepare(fmt::format("SELECT {} FROM candidates WHERE {}", kTotalColumns, condition.sql)));
    bind_values(row, condition);
    DREDGER_TRY(const bool there, row.step());
    return there ? totals_at(row, 0) : Totals();
}

Result<void> Catalog::each_group(const Selection& selection, Grouping grouping, const GroupSink& visit) const {
    const Condition condition = condition_for(selection);
    if (grouping == Grouping::folder) {
        DREDGER_TRY(Statement rows,
                    database_.prepare(fmt::format("SELECT folder, {} FROM candidates WHERE {} GROUP BY folder",
                                                  kTotalColumns, condition.sql)));
        bind_values(rows, condition);
        for (;;) {
            DREDGER_TRY(const bool there, rows.step());
            if (!there) return {};
            visit(parts_of(rows.text(0)), totals_at(rows, 1));
        }
    }
    // The database would sort all rows for these few groups.
    std::map<std::int64_t, Totals> by_number;
    std::map<std::string, Totals, std::less<>> by_word;
    const char* key = grouping == Grouping::kind     ? "kind"
                      : grouping == Grouping::format ? "format"
                      : grouping == Grouping::date   ? "modified"
                                                     : "volume";
    DREDGER_TRY(Statement rows, database_.prepare(fmt::format(
                                    "SELECT {0}, {0} IS NULL, is_folder, band, size, prospect FROM candidates "
                                    "WHERE {1}",
                                    key, condition.sql)));
    bind_values(rows, condition);
    constexpr std::int64_t kNoDay = std::numeric_limits<std::int64_t>::min();
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) break;
        const Totals one = Totals::of_one(rows.number(2) != 0, static_cast<Band>(rows.number(3) % 4),
                                          loaded(rows.number(4)), static_cast<int>(rows.number(5)));
        if (grouping == Grouping::format) {
            by_word[rows.text(0)].add(one);
        } else if (grouping == Grouping::date) {
            const std::int64_t seconds = rows.number(0);
            by_number[rows.number(1) != 0 ? kNoDay : (seconds - (seconds < 0 ? kDay - 1 : 0)) / kDay].add(one);
        } else {
            by_number[rows.number(0)].add(one);
        }
    }
    std::map<std::int64_t, std::string> media;
    if (grouping == Grouping::medium) {
        DREDGER_TRY(const auto all_sources, sources());
        DREDGER_TRY(const auto all_volumes, volumes());
        for (const ScannedVolume& volume : all_volumes)
            for (const ScannedSource& source : all_sources)
                if (source.id == volume.source) media[volume.id] = source.path;
    }
    for (const auto& [word, totals] : by_word) visit({word}, totals);
    for (const auto& [number, totals] : by_number) {
        if (grouping == Grouping::kind)
            visit({std::string(word_for(static_cast<Kind>(number)))}, totals);
        else if (grouping == Grouping::medium)
            visit({media[number]}, totals);
        else
            visit(number == kNoDay ? GroupTree::Path{""} : parts_of_day(number), totals);
    }
    return {};
}

Result<void> Catalog::each(const Selection& selection, const Order& order, bool with_layouts,
                           const std::function<bool(const Candidate&)>& visit, const Page& page) const {
    const Condition condition = condition_for(selection);
    // A page is chosen by what the indices hold, and only its rows are read.
    const bool is_page = page.most || page.skip > 0;
    DREDGER_TRY(Statement rows,
                database_.prepare(
                    fmt::format("SELECT {} FROM candidates WHERE {} ORDER BY {}{}", is_page ? "id" : kColumns,
                                condition.sql, order_sql(order),
                                is_page ? fmt::format(" LIMIT {} OFFSET {}",
                                                      page.most ? static_cast<std::int64_t>(*page.most) : -1, page.skip)
                                        : "")));
    bind_values(rows, condition);
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return {};
        std::optional<Candidate> candidate;
        if (is_page) {
            DREDGER_TRY(candidate, row_of(rows.number(0)));
            if (!candidate) continue;
        } else {
            candidate = candidate_at(rows);
        }
        if (with_layouts) DREDGER_CHECK(load_layout(*candidate));
        if (!visit(*candidate)) return {};
    }
}

Result<std::vector<Catalog::Overlap>> Catalog::overlapping(const Candidate& candidate) const {
    constexpr std::size_t kMost = 10'000;
    struct Piece {
        Extent where;
        std::size_t index;
    };
    std::vector<Piece> pieces;
    for (std::size_t i = 0; i < candidate.record.layout.extents.size(); ++i)
        if (candidate.record.layout.extents[i].is_stored()) pieces.push_back({candidate.record.layout.extents[i], i});
    if (pieces.empty()) return std::vector<Overlap>();
    std::sort(pieces.begin(), pieces.end(),
              [](const Piece& a, const Piece& b) { return a.where.offset < b.where.offset; });
    std::uint64_t end = 0;
    for (const Piece& piece : pieces) end = std::max(end, piece.where.end());

    // One walk over all pieces of the catalog, however many this candidate has.
    DREDGER_TRY(Statement rows, database_.prepare("SELECT candidate, offset, length FROM extents WHERE offset >= 0 AND "
                                                  "offset < ? AND offset + length > ? AND candidate <> ?"));
    rows.bind(1, stored(end)).bind(2, stored(pieces.front().where.offset)).bind(3, candidate.id);
    std::vector<Overlap> list;
    while (list.size() < kMost) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) break;
        const Extent other{loaded(rows.number(1)), loaded(rows.number(2))};
        for (auto piece = std::partition_point(pieces.begin(), pieces.end(),
                                               [&](const Piece& p) { return p.where.end() <= other.offset; });
             piece != pieces.end() && piece->where.offset < other.end(); ++piece) {
            const std::uint64_t first = std::max(other.offset, piece->where.offset);
            list.push_back({rows.number(0),
                            "",
                            State::live,
                            piece->index,
                            {first, std::min(other.end(), piece->where.end()) - first}});
        }
    }
    for (Overlap& overlap : list) {
        DREDGER_TRY(const auto row, row_of(overlap.candidate));
        if (!row || row->volume != candidate.volume) {
            overlap.shared.length = 0;
            continue;
        }
        overlap.path = row->record.path();
        overlap.state = row->record.state;
    }
    std::erase_if(list, [](const Overlap& o) { return o.shared.length == 0; });
    std::stable_sort(list.begin(), list.end(), [](const Overlap& a, const Overlap& b) {
        return std::tuple(a.state != State::live, a.piece, a.shared.offset) <
               std::tuple(b.state != State::live, b.piece, b.shared.offset);
    });
    return list;
}

Result<std::vector<Candidate>> Catalog::of_same_name(const Candidate& candidate) const {
    constexpr int kMost = 20;
    const std::string& name = candidate.record.name;
    const std::string base = name.substr(0, name.find(':'));
    // A stream's name follows that of its file behind a colon, the character before the semicolon.
    DREDGER_TRY(
        Statement rows,
        database_.prepare(fmt::format(
            "SELECT {} FROM candidates WHERE state > 0 AND folder = ? AND (name = ? OR (name > ? AND name < ?)) "
            "AND id <> ? AND volume = ? AND is_folder = ? ORDER BY name, modified DESC, id LIMIT {}",
            kColumns, kMost)));
    rows.bind(1, candidate.record.folder).bind(2, base).bind(3, base + ":").bind(4, base + ";").bind(5, candidate.id);
    rows.bind(6, candidate.volume).bind(7, std::int64_t{candidate.record.is_folder});
    std::vector<Candidate> list;
    for (;;) {
        DREDGER_TRY(const bool there, rows.step());
        if (!there) return list;
        list.push_back(candidate_at(rows));
    }
}

std::string Catalog::name_of(std::int64_t id) const {
    name_.bind(1, id);
    const auto there = name_.step();
    std::string text;
    if (there && *there) {
        Record record;
        record.folder = name_.text(0);
        record.name = name_.text(1);
        if (!name_.is_null(2)) record.created = FileTime{name_.number(2), 0, {}};
        text = title_of(record);
    }
    name_.reset();
    return text;
}

}  // namespace dredger

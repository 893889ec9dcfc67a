#include "catalog/catalog.h"

#include <fmt/format.h>
#include <limits>

#include "base/text.h"
#include "catalog/rows.h"

namespace dredger {

using rows::bind_values;
using rows::candidate_at;
using rows::code;
using rows::columns;
using rows::loaded;
using rows::stored;
using sqlite::Statement;

namespace {

constexpr int kMaxNamesakes = 20;
constexpr int kMaxLives = 10'000;  // of one document

}  // namespace

Result<Catalog> Catalog::open_for_scan(const std::filesystem::path& path) {
    return Store::open_for_scan(path).map([](Store&& store) { return Catalog(std::move(store)); });
}

Result<Catalog> Catalog::open(const std::filesystem::path& path) {
    return Store::open(path).map([](Store&& store) { return Catalog(std::move(store)); });
}

Result<std::int64_t> Catalog::count(const Selection& selection, std::int64_t after) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(Statement row, database().prepare(fmt::format("SELECT count(*) FROM candidates WHERE id > {} AND {}",
                                                              after, condition.sql)));
    bind_values(row, condition);
    DREDGER_TRY(const bool there, row.step());
    return there ? row.number(0) : 0;
}

namespace {

// From rows::kTotalColumns, `first` being the first of them.
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

// Of one candidate: is_folder, band, size and prospect, `first` being the first of them.
Totals one_at(const Statement& row, int first) {
    return Totals::of_one(row.number(first) != 0, static_cast<Band>(row.number(first + 1) % 4),
                          loaded(row.number(first + 2)), static_cast<int>(row.number(first + 3)));
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

// `day`: days since 1970, by the digits that are shown.
GroupTree::Path parts_of_day(std::int64_t day) {
    const std::string text = iso8601(FileTime{day * kDay, 0, FileTime::Clock::local});
    return {text.substr(0, 4), text.substr(5, 2), text.substr(8, 2)};
}

}  // namespace

Result<Totals> Catalog::totals(const Selection& selection) const {
    const Condition condition = condition_for(selection);
    if (condition.sql == condition_for(usual_selection()).sql) {
        DREDGER_TRY(Statement kept, database().prepare("SELECT * FROM summary"));
        DREDGER_TRY(const bool is_known, kept.step());
        if (is_known) return totals_at(kept, 0);
    }
    DREDGER_TRY(Statement row, database().prepare(fmt::format("SELECT {} FROM candidates WHERE {}", rows::kTotalColumns,
                                                              condition.sql)));
    bind_values(row, condition);
    DREDGER_TRY(const bool there, row.step());
    return there ? totals_at(row, 0) : Totals();
}

Result<std::map<std::int64_t, Totals>> Catalog::totals_of_volumes(const Selection& selection) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(
        Statement rows,
        database().prepare("SELECT volume, is_folder, band, size, prospect FROM candidates WHERE " + condition.sql));
    bind_values(rows, condition);
    std::map<std::int64_t, Totals> by_volume;
    DREDGER_CHECK(rows.each([&] { by_volume[rows.number(0)].add(one_at(rows, 1)); }));
    return by_volume;
}

Result<void> Catalog::each_group(const Selection& selection, Grouping grouping, const GroupSink& visit) const {
    const Condition condition = condition_for(selection);
    if (grouping == Grouping::folder) {
        DREDGER_TRY(Statement rows,
                    database().prepare(fmt::format("SELECT folder, {} FROM candidates WHERE {} GROUP BY folder",
                                                   rows::kTotalColumns, condition.sql)));
        bind_values(rows, condition);
        return rows.each([&] { visit(parts_of(rows.text(0)), totals_at(rows, 1)); });
    }
    if (grouping == Grouping::medium || grouping == Grouping::volume) {
        DREDGER_TRY(const auto all_sources, sources());
        DREDGER_TRY(const auto all_volumes, volumes());
        DREDGER_TRY(const auto totals, totals_of_volumes(selection));
        for (const ScannedVolume& volume : all_volumes)
            for (const ScannedSource& source : all_sources)
                if (const auto found = totals.find(volume.id); source.id == volume.source && found != totals.end()) {
                    const std::string name = grouping == Grouping::medium ? source.path : name_of_volume(volume);
                    const bool is_told_apart = grouping == Grouping::volume && all_sources.size() > 1;
                    visit({is_told_apart ? fmt::format("{} of {}", name, source.path) : name}, found->second);
                }
        return {};
    }
    // The database would sort all rows for these few groups.
    std::map<std::int64_t, Totals> by_number;
    std::map<std::string, Totals, std::less<>> by_word;
    const char* key = grouping == Grouping::kind ? "kind" : grouping == Grouping::format ? "format" : "modified";
    DREDGER_TRY(Statement rows, database().prepare(fmt::format(
                                    "SELECT {0}, {0} IS NULL, is_folder, band, size, prospect, modified_clock FROM "
                                    "candidates WHERE {1}",
                                    key, condition.sql)));
    bind_values(rows, condition);
    constexpr std::int64_t kNoDay = std::numeric_limits<std::int64_t>::min();
    DREDGER_CHECK(rows.each([&] {
        const Totals one = one_at(rows, 2);
        if (grouping == Grouping::format) {
            by_word[rows.text(0)].add(one);
        } else if (grouping == Grouping::date) {
            const auto clock = static_cast<FileTime::Clock>(rows.number(6) & 1);
            const std::int64_t seconds = in_local_digits({rows.number(0), 0, clock}).seconds;
            by_number[rows.number(1) != 0 ? kNoDay : (seconds - (seconds < 0 ? kDay - 1 : 0)) / kDay].add(one);
        } else {
            by_number[rows.number(0)].add(one);
        }
    }));
    for (const auto& [word, totals] : by_word) visit({word}, totals);
    for (const auto& [number, totals] : by_number) {
        if (grouping == Grouping::kind)
            visit({std::string(word_for(static_cast<Kind>(number)))}, totals);
        else
            visit(number == kNoDay ? GroupTree::Path{""} : parts_of_day(number), totals);
    }
    return {};
}

Result<void> Catalog::each(const Selection& selection, const Order& order, bool with_layouts,
                           const std::function<bool(Candidate&)>& visit, const Page& page) const {
    const Condition condition = condition_for(selection);
    // A page is chosen by what the indices hold, and only its rows are read.
    const bool is_page = page.most || page.skip > 0;
    DREDGER_TRY(Statement rows,
                database().prepare(
                    fmt::format("SELECT {} FROM candidates WHERE {} ORDER BY {}{}", is_page ? "id" : columns(),
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

Result<std::vector<std::string>> Catalog::folders_below(const std::string& folder) const {
    std::set<std::string> names;
    DREDGER_TRY(Statement own,
                database().prepare(fmt::format(
                    "SELECT name FROM candidates WHERE state > {} AND NOT is_own AND folder = ? AND is_folder = 1",
                    code(State::live))));
    own.bind(1, folder);
    DREDGER_CHECK(own.each([&] { names.insert(own.text(0)); }));
    // From one to the next: what lies deeper in each is jumped over.
    const std::string prefix = folder.empty() ? "" : folder + "/";
    DREDGER_TRY(Statement next,
                database().prepare(fmt::format(
                    "SELECT folder FROM candidates WHERE state > {} AND NOT is_own AND folder > ? AND folder >= ? "
                    "ORDER BY folder LIMIT 1",
                    code(State::live))));
    std::string after = prefix;
    for (bool more = true; more;) {
        more = false;
        next.bind(1, after).bind(2, prefix);
        DREDGER_CHECK(next.each([&] {
            const std::string found = next.text(0);
            if (!found.starts_with(prefix)) return false;
            const std::size_t end = std::min(found.find('/', prefix.size()), found.size());
            names.insert(found.substr(prefix.size(), end - prefix.size()));
            // "A (2)" lies between "A" and what lies in it.
            after = end < found.size() ? found.substr(0, end) + "/\xFF\xFF" : found;
            more = true;
            return false;
        }));
    }
    return std::vector<std::string>(names.begin(), names.end());
}

Result<void> Catalog::each_in_folder(const Selection& selection, const std::string& folder,
                                     const std::function<bool(Candidate&)>& visit) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(Statement rows,
                database().prepare(
                    fmt::format("SELECT {} FROM candidates WHERE {} AND folder = ?{} ORDER BY is_folder DESC, prospect "
                                "DESC, name, id",
                                columns(), condition.sql, condition.values.size() + 1)));
    bind_values(rows, condition);
    rows.bind(static_cast<int>(condition.values.size()) + 1, folder);
    return rows.each([&] {
        Candidate candidate = candidate_at(rows);
        return visit(candidate);
    });
}

Result<std::vector<Catalog::Overlap>> Catalog::overlapping(const Candidate& candidate) const {
    constexpr std::size_t kMax = 10'000;
    struct Piece {
        Extent where;
        std::size_t index;
    };
    std::vector<Piece> pieces;
    for (std::size_t i = 0; i < candidate.layout.extents.size(); ++i)
        if (candidate.layout.extents[i].is_stored()) pieces.push_back({candidate.layout.extents[i], i});
    std::vector<Overlap> list;
    if (pieces.empty()) return list;
    std::sort(pieces.begin(), pieces.end(),
              [](const Piece& a, const Piece& b) { return a.where.offset < b.where.offset; });
    std::uint64_t end = 0;
    for (const Piece& piece : pieces) end = std::max(end, piece.where.end());

    // Extents of one size class begin at most so far before a place that they overlap.
    DREDGER_TRY(Statement rows,
                database().prepare(
                    fmt::format("SELECT candidate, offset, length FROM extents WHERE held = {} AND size_class = ? AND "
                                "offset > ? AND offset < ? AND candidate <> ?",
                                code(Held::stored))));
    const auto meet = [&](std::int64_t other_id, const Extent& other) {
        for (auto piece = std::partition_point(pieces.begin(), pieces.end(),
                                               [&](const Piece& p) { return p.where.end() <= other.offset; });
             piece != pieces.end() && piece->where.offset < other.end(); ++piece) {
            const std::uint64_t first = std::max(other.offset, piece->where.offset);
            list.push_back({other_id,
                            "",
                            State::live,
                            piece->index,
                            {first, std::min(other.end(), piece->where.end()) - first},
                            false});
        }
    };
    const std::uint64_t begin = pieces.front().where.offset;
    constexpr int kClasses = 62;  // a medium has fewer bytes than 2 to the 62
    for (int size_class = 1; size_class <= kClasses && list.size() < kMax; ++size_class) {
        const std::uint64_t reach = std::uint64_t{1} << size_class;
        rows.bind(1, std::int64_t{size_class});
        rows.bind(2, begin > reach ? stored(begin - reach) : -1).bind(3, stored(end)).bind(4, candidate.id);
        DREDGER_CHECK(rows.each([&] {
            meet(rows.number(0), {loaded(rows.number(1)), loaded(rows.number(2))});
            return list.size() < kMax;
        }));
    }
    for (Overlap& overlap : list) {
        DREDGER_TRY(const auto row, row_of(overlap.candidate));
        if (!row || row->volume != candidate.volume) {
            overlap.shared.length = 0;
            continue;
        }
        overlap.path = row->record.path();
        overlap.state = row->record.state;
        overlap.is_same_file = row->record.content_key() == candidate.record.content_key();
    }
    std::erase_if(list, [](const Overlap& o) { return o.shared.length == 0; });
    std::stable_sort(list.begin(), list.end(), [](const Overlap& a, const Overlap& b) {
        return std::tuple(a.state != State::live, a.piece, a.shared.offset) <
               std::tuple(b.state != State::live, b.piece, b.shared.offset);
    });
    return list;
}

Result<std::vector<Candidate>> Catalog::of_same_name(const Candidate& candidate) const {
    const std::string file(candidate.record.file_name());
    DREDGER_TRY(Statement rows,
                database().prepare(fmt::format(
                    "SELECT {} FROM candidates WHERE state > {} AND NOT is_own AND folder = ? AND ((stream = '' AND "
                    "name = ?) OR "
                    "(stream <> '' AND name = ? || ';' || stream)) AND id <> ? AND volume = ? AND is_folder = ? ORDER "
                    "BY name, modified DESC, id "
                    "LIMIT {}",
                    columns(), code(State::live), kMaxNamesakes)));
    rows.bind(1, candidate.record.folder).bind(2, file).bind(3, file).bind(4, candidate.id);
    rows.bind(5, candidate.volume).bind(6, std::int64_t{candidate.record.is_folder});
    return rows::candidates_of(rows);
}

Result<void> Catalog::each_named(std::int64_t source, const std::function<bool(const lives::SeenFile&)>& visit) const {
    DREDGER_TRY(
        Statement rows,
        database().prepare(fmt::format(
            "SELECT id, volume, folder, name, attributes, size, created, state, band, is_folder, name_is_whole, CASE "
            "WHEN version > 0 THEN facts ELSE '[]' END FROM candidates WHERE volume IN (SELECT id FROM volumes WHERE "
            "source = ?) AND origin <> {} AND stream = '' AND is_own = 0 ORDER BY id",
            code(Origin::signature))));
    rows.bind(1, source);
    return rows.each([&] {
        lives::SeenFile file;
        file.id = rows.number(0);
        file.volume = rows.number(1);
        file.folder = rows.text(2);
        file.name = rows.text(3);
        file.attributes = rows.text(4);
        file.size = loaded(rows.number(5));
        if (!rows.is_null(6)) file.created = rows.number(6);
        file.is_live = rows.number(7) == code(State::live);
        file.has_content = rows.number(8) != code(Band::gone);
        file.is_folder = rows.number(9) != 0;
        file.name_is_whole = rows.number(10) != 0;
        for (const Fact& fact : rows::facts_from(rows.text(11))) {
            if (fact.name == kSnapshotFact) file.snapshot = fact.value;
            if (fact.name == kSnapshotMadeFact) file.snapshot_made = parse_iso8601(fact.value);
        }
        return visit(file);
    });
}

Result<std::vector<Candidate>> Catalog::copies_of(const std::string& path) const {
    DREDGER_TRY(Statement rows, database().prepare(fmt::format("SELECT {} FROM candidates WHERE role > 0 AND document "
                                                               "= ? ORDER BY id LIMIT {}",
                                                               columns(), kMaxLives)));
    rows.bind(1, path);
    return rows::candidates_of(rows);
}

Result<std::vector<Candidate>> Catalog::of_path(const std::string& path) const {
    const auto [folder, name] = split_path(path);
    // The index of finds by path leaves out what is live.
    DREDGER_TRY(Statement rows, database().prepare(fmt::format("SELECT {0} FROM candidates WHERE folder = ?1 AND name "
                                                               "= ?2 AND is_folder = 0 ORDER BY id LIMIT {1}",
                                                               columns(), kMaxLives)));
    rows.bind(1, folder).bind(2, name);
    return rows::candidates_of(rows);
}

namespace {

// All files that a document's life can be, copies under the folder and name of their document, so that a selection
// means the documents. Without copies of which the document is not known.
const std::string& as_documents() {
    static const std::string sql = [] {
        const std::string folder = "rtrim(rtrim(document, replace(document, '/', '')), '/')";
        const std::string above = "rtrim(document, replace(document, '/', ''))";
        return fmt::format(
            "SELECT id, volume, state, origin, kind, format, role, size, modified, modified_clock, created, "
            "created_clock, deleted, deleted_clock, prospect, band, chk, is_folder, is_own, as_of, as_of_clock, CASE "
            "WHEN role > 0 THEN {} ELSE folder END AS folder, CASE WHEN role > 0 THEN "
            "substr(document, length({}) + 1) ELSE name END AS name, CASE WHEN role > 0 THEN document ELSE "
            "ltrim(folder "
            "|| '/' || name, '/') END AS path FROM main.candidates WHERE is_folder = 0 AND is_own = 0 AND stream = '' "
            "AND "
            "name_is_placeholder = 0 AND origin <> {} AND NOT (role > 0 AND document = '')",
            folder, above, code(Origin::signature));
    }();
    return sql;
}

// Roles of what tells of a document without being a state of it.
std::string no_lives() {
    std::vector<std::int64_t> codes;
    for (std::size_t role = 0; role < std::size(kRoleWords); ++role)
        if (!is_state_of_document(static_cast<Role>(role))) codes.push_back(static_cast<std::int64_t>(role));
    return fmt::format("{}", fmt::join(codes, ","));
}

}  // namespace

Result<std::vector<Catalog::Document>> Catalog::documents_with_lives(const Selection& selection) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(Statement rows,
                database().prepare(
                    fmt::format("WITH candidates AS ({}) SELECT path, sum(role NOT IN ({})) AS lives, sum(role > 0), "
                                "sum(role = 0 AND state = {}), max({}) AS is_chosen FROM candidates GROUP BY path "
                                "HAVING lives > 1 AND is_chosen ORDER BY path",
                                as_documents(), no_lives(), code(State::live), condition.sql)));
    rows::bind_values(rows, condition);
    std::vector<Document> documents;
    DREDGER_CHECK(rows.each([&] {
        documents.push_back({rows.text(0), loaded(rows.number(1)), loaded(rows.number(2)), rows.number(3) > 0});
    }));
    return documents;
}

Result<std::uint64_t> Catalog::documents_with_copies() const {
    DREDGER_TRY(const std::int64_t count,
                database().number("SELECT count(DISTINCT document) FROM candidates WHERE role > 0 AND document <> ''"));
    return loaded(count);
}

Result<std::set<std::int64_t>> Catalog::as_of(const Selection& selection, std::int64_t moment) const {
    const Condition condition = condition_for(selection);
    // The newest of each document that is not younger, of one time what has more of it; of what was deleted before
    // then nothing. A clock without a zone showed the digits that were typed.
    const auto by_then = [&](const char* clock) {
        return fmt::format("CASE {} WHEN {} THEN {} ELSE {} END", clock, code(FileTime::Clock::local), moment,
                           utc_of_local_digits(moment));
    };
    DREDGER_TRY(Statement rows,
                database().prepare(fmt::format(
                    "WITH candidates AS ({}) SELECT path, id, role = 0 AND deleted IS NOT NULL AND deleted <= {} FROM "
                    "candidates WHERE coalesce(as_of, modified) <= {} AND band <> {} AND role NOT IN ({}) AND ({}) "
                    "ORDER BY path, coalesce(as_of, modified) DESC, band, role, id",
                    as_documents(), by_then("deleted_clock"),
                    by_then("(CASE WHEN as_of IS NULL THEN modified_clock ELSE as_of_clock END)"), code(Band::gone),
                    no_lives(), condition.sql)));
    rows::bind_values(rows, condition);
    std::set<std::int64_t> ids;
    std::optional<std::string> last;
    DREDGER_CHECK(rows.each([&] {
        const std::string path = rows.text(0);
        if (last == path) return;
        last = path;
        if (rows.number(2) == 0) ids.insert(rows.number(1));
    }));
    return ids;
}

Result<void> Catalog::each_of_same_size(
    std::int64_t source, const std::function<bool(std::int64_t candidate, std::uint64_t size)>& visit) const {
    const char* of_source = "volume IN (SELECT id FROM volumes WHERE source = ?1) AND is_folder = 0 AND size > 0";
    DREDGER_TRY(Statement rows, database().prepare(fmt::format(
                                    "SELECT id, size FROM candidates WHERE {0} AND size IN (SELECT size FROM "
                                    "candidates WHERE {0} GROUP BY size HAVING count(*) > 1 AND max(state) > 0) "
                                    "ORDER BY size, id",
                                    of_source)));
    rows.bind(1, source);
    return rows.each([&] { return visit(rows.number(0), loaded(rows.number(1))); });
}

Result<Catalog::Copies> Catalog::copies(const Selection& selection, const Order& order) const {
    const Condition condition = condition_for(selection);
    DREDGER_TRY(Statement rows, database().prepare(fmt::format(
                                    "SELECT id, content FROM candidates INDEXED BY candidates_by_content WHERE "
                                    "content > 0 AND {} ORDER BY {}",
                                    condition.sql, order_sql(order))));
    bind_values(rows, condition);
    Copies copies;
    std::map<std::int64_t, std::int64_t> first;  // by content
    DREDGER_CHECK(rows.each([&] {
        const auto [one, is_first] = first.emplace(rows.number(1), rows.number(0));
        ++copies.count[one->second];
        if (!is_first) copies.further.insert(rows.number(0));
    }));
    std::erase_if(copies.count, [](const auto& one) { return one.second < 2; });
    return copies;
}

Result<std::vector<Candidate>> Catalog::of_same_content(const Candidate& candidate) const {
    if (candidate.content == 0) return std::vector<Candidate>();
    DREDGER_TRY(
        Statement rows,
        database().prepare(fmt::format(
            "SELECT {} FROM candidates WHERE content = ? AND content > 0 AND id <> ? ORDER BY state, id LIMIT {}",
            columns(), kMaxNamesakes)));
    rows.bind(1, candidate.content).bind(2, candidate.id);
    return rows::candidates_of(rows);
}

std::string Catalog::name_of(std::int64_t id) const {
    std::string text;
    if (!name_.is_prepared()) {
        auto prepared = database().prepare(
            "SELECT folder, name, coalesce(created, modified), "
            "CASE WHEN created IS NULL THEN modified_clock ELSE created_clock END FROM candidates WHERE id=?");
        if (!prepared) return text;
        name_ = std::move(*prepared);
    }
    name_.bind(1, id);
    (void)name_.each([&] {
        FileEntry entry;
        entry.folder = name_.text(0);
        entry.name = name_.text(1);
        if (!name_.is_null(2))
            entry.created = FileTime{name_.number(2), 0, static_cast<FileTime::Clock>(name_.number(3) & 1)};
        text = title_of(entry);
        return false;
    });
    return text;
}

Result<void> Catalog::each_piece(
    std::int64_t volume,
    const std::function<void(std::int64_t candidate, const Extent&, bool is_proven)>& visit) const {
    DREDGER_TRY(Statement rows,
                database().prepare(fmt::format(
                    "SELECT c.id, e.held, e.offset, e.length, (c.proof >= {} AND c.chk <= {}) OR c.codec = {} FROM "
                    "candidates c JOIN extents e ON e.candidate = c.id WHERE c.volume = ? AND c.state <> {} AND "
                    "c.origin <> {} AND c.is_folder = 0 AND c.codec <> {} ORDER BY c.id, e.position",
                    code(Proof::chain), code(Check::plausible), code(Codec::each), code(State::live),
                    code(Origin::signature), code(Codec::lznt1))));
    rows.bind(1, volume);
    return rows.each([&] {
        visit(rows.number(0), {loaded(rows.number(2)), loaded(rows.number(3)), static_cast<Held>(rows.number(1))},
              rows.number(4) != 0);
    });
}

Result<void> Catalog::each_stored_extent(
    std::int64_t source, const std::function<void(std::int64_t candidate, const Extent&)>& visit) const {
    DREDGER_TRY(Statement rows,
                database().prepare(fmt::format(
                    "SELECT e.candidate, e.offset, e.length FROM extents e JOIN candidates c ON c.id = e.candidate "
                    "JOIN volumes v ON v.id = c.volume WHERE v.source=? AND e.held = {}",
                    code(Held::stored))));
    rows.bind(1, source);
    return rows.each([&] { visit(rows.number(0), {loaded(rows.number(1)), loaded(rows.number(2))}); });
}

Result<std::string> Catalog::path_of_holder(std::int64_t source, const Extent& range) const {
    DREDGER_TRY(
        Statement rows,
        database().prepare(fmt::format(
            "SELECT c.folder, c.name FROM extents e JOIN candidates c ON c.id = e.candidate JOIN volumes v ON v.id = "
            "c.volume WHERE v.source = ? AND e.held = {} AND e.offset <= ? AND e.offset + e.length > ? AND c.size >= ? "
            "AND c.origin <> {} AND c.is_folder = 0 ORDER BY c.id LIMIT 1",
            code(Held::stored), code(Origin::signature))));
    rows.bind(1, source).bind(2, stored(range.offset)).bind(3, stored(range.offset)).bind(4, stored(range.length));
    DREDGER_TRY(const bool there, rows.step());
    return there ? joined(rows.text(0), rows.text(1)) : std::string();
}

Result<void> Catalog::each_extent(
    const std::function<void(std::int64_t volume, State state, Band band, const Extent&)>& visit) const {
    DREDGER_TRY(Statement rows, database().prepare(fmt::format(
                                    "SELECT c.volume, c.state, c.band, e.offset, e.length FROM extents e JOIN "
                                    "candidates c ON c.id = e.candidate WHERE e.held = {} AND c.is_folder = 0",
                                    code(Held::stored))));
    return rows.each([&] {
        visit(rows.number(0), static_cast<State>(rows.number(1)), static_cast<Band>(rows.number(2)),
              {loaded(rows.number(3)), loaded(rows.number(4))});
    });
}

}  // namespace dredger

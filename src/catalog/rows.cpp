#include "catalog/rows.h"

#include <fmt/format.h>

namespace dredger::rows {

using sqlite::Statement;

const char* const kColumns =
    "id, volume, record, state, origin, is_folder, folder, name, name_is_whole, size, kind, format, created, "
    "created_ns, modified, modified_ns, accessed, accessed_ns, changed, changed_ns, deleted, deleted_ns, clock, "
    "attributes, facts, trust, codec, unit, within_records, prospect, band, chk, reasons, proof, checked, likeness, "
    "content";

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

std::string facts_text(const std::vector<Fact>& facts) {
    std::vector<std::string> lines;
    for (const Fact& fact : facts) lines.push_back(fmt::format("{}: {}", fact.name, fact.value));
    return list_text(lines);
}

std::optional<std::int64_t> likeness_of(const Learnt& c) {
    return c.likeness ? std::optional(stored(*c.likeness)) : std::nullopt;
}

namespace {

std::vector<Fact> facts_from(const std::string& text) {
    std::vector<Fact> facts;
    for (const std::string& line : list_from(text)) {
        const std::size_t colon = std::min(line.find(": "), line.size());
        facts.push_back({line.substr(0, colon), line.substr(std::min(colon + 2, line.size()))});
    }
    return facts;
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

}  // namespace

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
    c.is_checked = row.number(34) != 0;
    if (!row.is_null(35)) c.likeness = loaded(row.number(35));
    c.content = row.number(36);
    return c;
}

void bind_candidate(Statement& s, const Candidate& c) {
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
    s.bind(35, std::int64_t{c.is_checked}).bind(36, likeness_of(c)).bind(37, c.content);
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

}  // namespace dredger::rows

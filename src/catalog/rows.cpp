#include "catalog/rows.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "catalog/fields.h"

namespace dredger::rows {

using nlohmann::json;
using sqlite::Statement;

namespace {

template <class T>
concept Number = std::is_arithmetic_v<T> || std::is_enum_v<T>;

std::string dumped(const json& list) { return list.dump(-1, ' ', false, json::error_handler_t::replace); }

// A time takes three columns: seconds, the rest of the second, and which clock it was.
struct Column {
    std::string name;
    const char* type;
};

template <class T>
void add_columns(std::vector<Column>& list, const std::string& name, const T&) {
    if constexpr (std::is_same_v<T, std::optional<FileTime>>) {
        for (const char* part : {"", "_ns", "_clock"}) list.push_back({name + part, "INTEGER"});
    } else if constexpr (std::is_same_v<T, std::optional<std::uint64_t>>) {
        list.push_back({name, "INTEGER"});
    } else if constexpr (Number<T>) {
        list.push_back({name, name == "id"       ? "INTEGER PRIMARY KEY"
                              : name == "volume" ? "INTEGER NOT NULL REFERENCES volumes"
                                                 : "INTEGER NOT NULL"});
    } else {
        list.push_back({name, "TEXT NOT NULL"});
    }
}

std::vector<Column> all_columns() {
    std::vector<Column> list;
    const Candidate any;
    fields::each_column(any, [&](const char* name, const auto& value) { add_columns(list, name, value); });
    return list;
}

std::vector<Column> learnt_columns() {
    std::vector<Column> list;
    const Learnt any;
    fields::each_learnt(any, [&](const char* name, const auto& value) { add_columns(list, name, value); });
    return list;
}

template <class One>
std::string joined_columns(const std::vector<Column>& list, const One& one) {
    std::string text;
    for (const Column& column : list) text += (text.empty() ? "" : ", ") + one(column);
    return text;
}

class Binder {
  public:
    explicit Binder(Statement& statement) : statement_(statement) {}
    template <Number T>
    void add(const T& value) {
        statement_.bind(next_++, static_cast<std::int64_t>(value));
    }
    void add(const std::string& text) { statement_.bind(next_++, text); }
    void add(const std::vector<std::string>& list) { statement_.bind(next_++, json_of(list)); }
    void add(const std::vector<Fact>& list) { statement_.bind(next_++, json_of(list)); }
    void add(const std::optional<std::uint64_t>& value) {
        statement_.bind(next_++, value ? std::optional(stored(*value)) : std::nullopt);
    }
    void add(const std::optional<FileTime>& time) {
        const auto part = [&](std::int64_t value) {
            time ? statement_.bind(next_++, value) : statement_.bind_null(next_++);
        };
        part(time ? time->seconds : 0);
        part(time ? std::int64_t{time->nanoseconds} : 0);
        part(time ? code(time->clock) : 0);
    }
    int next() const { return next_; }

  private:
    Statement& statement_;
    int next_ = 1;
};

class Loader {
  public:
    explicit Loader(const Statement& row) : row_(row) {}
    template <Number T>
    void load(T& value) {
        value = static_cast<T>(row_.number(next_++));
    }
    void load(std::string& text) { text = row_.text(next_++); }
    void load(std::vector<std::string>& list) { list = strings_from(row_.text(next_++)); }
    void load(std::vector<Fact>& list) { list = facts_from(row_.text(next_++)); }
    void load(std::optional<std::uint64_t>& value) {
        if (!row_.is_null(next_)) value = loaded(row_.number(next_));
        ++next_;
    }
    void load(std::optional<FileTime>& time) {
        if (!row_.is_null(next_))
            time = FileTime{row_.number(next_), static_cast<std::uint32_t>(row_.number(next_ + 1)),
                            static_cast<FileTime::Clock>(row_.number(next_ + 2))};
        next_ += 3;
    }

  private:
    const Statement& row_;
    int next_ = 0;
};

}  // namespace

const std::string& columns() {
    static const std::string text = joined_columns(all_columns(), [](const Column& c) { return c.name; });
    return text;
}

const std::string& declarations() {
    static const std::string text =
        joined_columns(all_columns(), [](const Column& c) { return c.name + " " + c.type; });
    return text;
}

const std::string& parameters() {
    static const std::string text = joined_columns(all_columns(), [](const Column&) { return std::string("?"); });
    return text;
}

const std::string& assignments() {
    static const std::string text = joined_columns(all_columns(), [](const Column& c) { return c.name + "=?"; });
    return text;
}

const std::string& learnt_assignments() {
    static const std::string text = joined_columns(learnt_columns(), [](const Column& c) { return c.name + "=?"; });
    return text;
}

int bind_candidate(Statement& statement, const Candidate& candidate) {
    Binder binder(statement);
    fields::each_column(candidate, [&](const char*, const auto& value) { binder.add(value); });
    return binder.next();
}

int bind_learnt(Statement& statement, const Learnt& learnt) {
    Binder binder(statement);
    fields::each_learnt(learnt, [&](const char*, const auto& value) { binder.add(value); });
    return binder.next();
}

Candidate candidate_at(const Statement& row) {
    Candidate candidate;
    Loader loader(row);
    fields::each_column(candidate, [&](const char*, auto& value) { loader.load(value); });
    return candidate;
}

Result<std::vector<Candidate>> candidates_of(Statement& rows) {
    std::vector<Candidate> list;
    DREDGER_CHECK(rows.each([&] { list.push_back(candidate_at(rows)); }));
    return list;
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

std::string json_of(const std::vector<std::string>& list) { return list.empty() ? "[]" : dumped(list); }

std::string json_of(const std::vector<Fact>& facts) {
    if (facts.empty()) return "[]";
    json list = json::array();
    for (const Fact& fact : facts) list.push_back({fact.name, fact.value});
    return dumped(list);
}

std::string json_of(const std::vector<Extent>& extents) {
    json list = json::array();
    for (const Extent& extent : extents)
        list.push_back({extent.is_stored() ? json(extent.offset) : json(word_for(extent.held)), extent.length});
    return dumped(list);
}

namespace {

// Whoever wrote the catalog, what does not fit is left out.
json array_from(const std::string& text) {
    json list = text == "[]" ? json::array() : json::parse(text, nullptr, false);
    return list.is_array() ? list : json::array();
}

}  // namespace

std::vector<std::string> strings_from(const std::string& text) {
    std::vector<std::string> list;
    for (const json& one : array_from(text))
        if (one.is_string()) list.push_back(one);
    return list;
}

std::vector<Fact> facts_from(const std::string& text) {
    std::vector<Fact> facts;
    for (const json& one : array_from(text))
        if (one.is_array() && one.size() == 2 && one[0].is_string() && one[1].is_string())
            facts.push_back({one[0], one[1]});
    return facts;
}

std::vector<Extent> extents_from(const std::string& text) {
    std::vector<Extent> extents;
    for (const json& one : array_from(text)) {
        if (!one.is_array() || one.size() != 2 || !one[1].is_number_unsigned()) continue;
        if (one[0].is_number_unsigned()) extents.push_back({one[0], one[1]});
        if (one[0] == word_for(Held::zeros)) extents.push_back(Extent::zeros(one[1]));
        if (one[0] == word_for(Held::unknown)) extents.push_back(Extent::unknown(one[1]));
    }
    return extents;
}

}  // namespace dredger::rows

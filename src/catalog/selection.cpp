#include "catalog/selection.h"

#include <algorithm>
#include <charconv>
#include <ctime>
#include <fmt/format.h>

#include "base/checked.h"
#include "base/text.h"
#include "base/times.h"
#include "catalog/rows.h"

namespace dredger {
namespace {

std::string_view trimmed(std::string_view text) {
    while (!text.empty() && text.front() == ' ') text.remove_prefix(1);
    while (!text.empty() && text.back() == ' ') text.remove_suffix(1);
    return text;
}

std::vector<std::string_view> split(std::string_view text) {
    std::vector<std::string_view> parts;
    for (std::size_t from = 0; from <= text.size();) {
        const std::size_t comma = std::min(text.find(',', from), text.size());
        parts.push_back(trimmed(text.substr(from, comma - from)));
        from = comma + 1;
    }
    return parts;
}

// A comma-separated list of the words of an enumeration.
template <class Enum, std::size_t N>
Result<std::set<Enum>> parse_set(std::string_view text, const std::string_view (&words)[N], const char* what) {
    std::set<Enum> set;
    for (const std::string_view part : split(text)) {
        const auto found = std::find(std::begin(words), std::end(words), folded(part));
        if (found == std::end(words))
            return fail(ErrorKind::usage, fmt::format("{} is no {}", part, what), "",
                        fmt::format("choose from {}", fmt::join(words, ", ")));
        set.insert(static_cast<Enum>(found - std::begin(words)));
    }
    return set;
}

std::optional<std::int64_t> whole_number(std::string_view text) {
    std::int64_t value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc() || end != text.data() + text.size() || value < 0) return std::nullopt;
    return value;
}

std::optional<std::int64_t> size_in_bytes(std::string_view text) {
    std::uint64_t unit = 1;
    if (!text.empty() && (text.back() == 'B' || text.back() == 'b')) text.remove_suffix(1);
    if (!text.empty()) {
        constexpr std::string_view kUnits = "KMGTP";
        const char last = text.back() >= 'a' ? static_cast<char>(text.back() - 'a' + 'A') : text.back();
        if (const auto power = kUnits.find(last); power != kUnits.npos) {
            unit <<= 10 * (power + 1);
            text.remove_suffix(1);
        }
    }
    const auto count = whole_number(text);
    if (!count) return std::nullopt;
    const auto bytes = checked_mul(static_cast<std::uint64_t>(*count), unit);
    if (!bytes || *bytes > INT64_MAX) return std::nullopt;
    return static_cast<std::int64_t>(*bytes);
}

// "FROM..TO", "FROM..", "..TO" or "ONE"; `first` and `last` say what a side means.
template <class First, class Last>
Result<Range> parse_range(std::string_view text, First first, Last last, const char* example) {
    const auto wrong =
        fail(ErrorKind::usage, fmt::format("{} is no range", text), "", fmt::format("write it like {}", example));
    const auto dots = text.find("..");
    const std::string_view from = trimmed(dots == text.npos ? text : text.substr(0, dots));
    const std::string_view to = trimmed(dots == text.npos ? text : text.substr(dots + 2));
    if (from.empty() && to.empty()) return wrong;
    Range range;
    if (!from.empty() && !(range.from = first(from))) return wrong;
    if (!to.empty() && !(range.to = last(to))) return wrong;
    if (range.from && range.to && *range.to < *range.from)
        return fail(ErrorKind::usage, fmt::format("{} ends before it begins", text), "", "write the lower end first");
    return range;
}

// "2026-05", "today", "yesterday", or "3d": so many hours, days or weeks ago.
std::optional<TypedTime> moment_of(std::string_view text) {
    if (auto typed = parse_time(text)) return typed;
    constexpr std::int64_t kDay = 86'400;
    const std::int64_t now =
        in_local_digits({static_cast<std::int64_t>(std::time(nullptr)), 0, FileTime::Clock::utc}).seconds;
    const auto day_of = [](std::int64_t moment) {
        const std::int64_t midnight = moment - moment % kDay;
        return TypedTime{midnight, midnight + kDay - 1};
    };
    const std::string word = folded(text);
    if (word == "today") return day_of(now);
    if (word == "yesterday") return day_of(now - kDay);
    constexpr std::string_view kUnits = "hdw";
    constexpr std::int64_t kSeconds[] = {3600, kDay, 7 * kDay};
    const auto unit = word.empty() ? kUnits.npos : kUnits.find(word.back());
    if (unit == kUnits.npos) return std::nullopt;
    const auto count = whole_number(std::string_view(word).substr(0, word.size() - 1));
    if (!count || *count > 100'000) return std::nullopt;
    const std::int64_t then = now - *count * kSeconds[unit];
    return TypedTime{then, then};
}

class Builder {
  public:
    void text(std::string value) { condition_.values.push_back({true, std::move(value), 0}); }
    void number(std::int64_t value) { condition_.values.push_back({false, {}, value}); }

    void require(const std::string& sql) {
        condition_.sql += (condition_.sql.empty() ? "" : " AND ") + ("(" + sql + ")");
    }

    template <class Enum>
    void require_in(const char* column, const std::set<Enum>& set) {
        if (set.empty()) return;
        std::vector<int> numbers;
        numbers.reserve(set.size());
        for (const Enum e : set) numbers.push_back(static_cast<int>(e));
        require(fmt::format("{} IN ({})", column, fmt::join(numbers, ",")));
    }

    // As a list that may be as long as the catalog.
    void require_listed(const char* what, const std::set<std::int64_t>& ids) {
        if (ids.empty()) return;
        require(fmt::format("{} IN (SELECT value FROM json_each(?))", what));
        text(fmt::format("[{}]", fmt::join(ids, ",")));
    }

    void require_any(const std::vector<std::string>& values, const char* sql) {
        if (values.empty()) return;
        std::vector<std::string> parts;
        for (const std::string& value : values) {
            parts.emplace_back(sql);
            text(value);
        }
        require(fmt::format("{}", fmt::join(parts, " OR ")));
    }

    // A fact of one of these names (as SQL lists them) that fits one of the globs.
    void require_fact(const char* names, const std::vector<std::string>& globs) {
        const std::string sql = fmt::format(
            "EXISTS (SELECT 1 FROM json_each(facts) WHERE json_extract(value, '$[0]') IN ({}) AND "
            "folded(json_extract(value, '$[1]')) GLOB folded(?))",
            names);
        require_any(globs, sql.c_str());
    }

    void require_range(const char* column, const Range& range) {
        if (range.from) {
            require(fmt::format("{} >= ?", column));
            number(*range.from);
        }
        if (range.to) {
            require(fmt::format("{} <= ?", column));
            number(*range.to);
        }
    }

    // A column of times beside the one that tells of which clock they are.
    void require_time(const char* column, const Range& digits) {
        const auto require_bound = [&](const char* relation, std::int64_t bound) {
            require(fmt::format("{0} {1} CASE {0}_clock WHEN {2} THEN ? ELSE ? END", column, relation,
                                rows::code(FileTime::Clock::local)));
            number(bound);
            number(utc_of_local_digits(bound));
        };
        if (digits.from) require_bound(">=", *digits.from);
        if (digits.to) require_bound("<=", *digits.to);
    }

    Condition finish() {
        if (condition_.sql.empty()) condition_.sql = "1";
        return std::move(condition_);
    }

  private:
    Condition condition_;
};

}  // namespace

Result<std::set<State>> parse_states(std::string_view text) { return parse_set<State>(text, kStateWords, "state"); }
Result<std::set<Origin>> parse_origins(std::string_view text) {
    return parse_set<Origin>(text, kOriginWords, "origin");
}
Result<std::set<Check>> parse_checks(std::string_view text) { return parse_set<Check>(text, kCheckWords, "check"); }
Result<std::set<Band>> parse_bands(std::string_view text) { return parse_set<Band>(text, kBandWords, "band"); }
Result<std::set<Kind>> parse_kinds(std::string_view text) { return parse_set<Kind>(text, kKindWords, "kind"); }

Result<std::set<Role>> parse_roles(std::string_view text) { return parse_set<Role>(text, kRoleWords, "role"); }

std::vector<std::string> parse_words(std::string_view text) {
    std::vector<std::string> words;
    for (std::string_view part : split(text)) {
        if (part.starts_with('.')) part.remove_prefix(1);
        if (!part.empty()) words.push_back(folded(part));
    }
    return words;
}

Result<std::vector<std::string>> parse_formats(std::string_view text) {
    std::vector<std::string> words = parse_words(text);
    for (const std::string& word : words) {
        const auto formats = all_formats();
        if (std::none_of(formats.begin(), formats.end(), [&](const Format* f) { return f->name == word; }))
            return fail(ErrorKind::usage, fmt::format("{} is no format that is known", word), "",
                        "write it like jpeg,docx,mp4, or use --ext for file name extensions");
    }
    return words;
}

Result<std::vector<Range>> parse_ids(std::string_view text) {
    std::vector<Range> ids;
    for (const std::string_view part : split(text)) {
        const auto dash = part.find('-');
        const auto from = whole_number(part.substr(0, dash));
        const auto to = dash == part.npos ? from : whole_number(part.substr(dash + 1));
        if (!from || !to || *from > *to)
            return fail(ErrorKind::usage, fmt::format("{} is no ID or run of IDs", part), "",
                        "write them like 7,12-40");
        ids.push_back({from, to});
    }
    return ids;
}

Result<Range> parse_sizes(std::string_view text) {
    return parse_range(text, size_in_bytes, size_in_bytes, "10K..20M, 5M.. or ..1G");
}

Result<Range> parse_times(std::string_view text) {
    const auto first = [](std::string_view t) -> std::optional<std::int64_t> {
        const auto typed = moment_of(t);
        return typed ? std::optional(typed->first) : std::nullopt;
    };
    const auto last = [](std::string_view t) -> std::optional<std::int64_t> {
        const auto typed = moment_of(t);
        return typed ? std::optional(typed->last) : std::nullopt;
    };
    return parse_range(text, first, last, "2026-05-01..2026-05-31, 2026-05.., yesterday or 3d..");
}

Result<Range> parse_prospects(std::string_view text) {
    return parse_range(text, whole_number, whole_number, "60.. or 20..80");
}

Result<Range> parse_offsets(std::string_view text) {
    const auto offset = [](std::string_view t) -> std::optional<std::int64_t> {
        if (!t.starts_with("0x") && !t.starts_with("0X")) return whole_number(t);
        std::int64_t value = 0;
        const auto [end, error] = std::from_chars(t.data() + 2, t.data() + t.size(), value, 16);
        if (error != std::errc() || end != t.data() + t.size() || t.size() == 2 || value < 0) return std::nullopt;
        return value;
    };
    return parse_range(text, offset, offset, "0x200..0x3ff or 4096..");
}

namespace {

bool has_wildcard(std::string_view text) { return text.find_first_of("*?") != text.npos; }

// A bracket stands for itself.
std::string without_classes(std::string_view text) {
    std::string glob;
    for (const char c : text) glob += c == '[' ? std::string("[[]") : std::string(1, c);
    return glob;
}

}  // namespace

std::string name_glob(std::string_view typed) {
    return has_wildcard(typed) ? without_classes(typed) : "*" + without_classes(typed) + "*";
}

std::vector<std::string> folder_globs(std::string_view typed) {
    std::string path(typed);
    if (path.find('/') == path.npos && path.find('\\') != path.npos) {
        if (path.size() > 1 && path[1] == ':') path.erase(0, 2);
        std::replace(path.begin(), path.end(), '\\', '/');
    }
    const bool is_path = path.find('/') != path.npos;
    while (path.ends_with('/')) path.pop_back();
    while (path.starts_with('/')) path.erase(0, 1);
    if (has_wildcard(path)) return {without_classes(path)};
    if (!is_path) return {"*" + without_classes(path) + "*"};
    return {without_classes(path), "*/" + without_classes(path)};
}

Selection usual_selection() {
    Selection usual;
    usual.without_housekeeping = true;
    return usual;
}

Condition condition_for(const Selection& selection) {
    Builder builder;
    // The usual one in the words of the index that is made for it.
    if (selection.states == Selection().states)
        builder.require(fmt::format("state > {}", rows::code(State::live)));
    else
        builder.require_in("state", selection.states);
    builder.require_in("origin", selection.origins);
    builder.require_in("chk", selection.checks);
    builder.require_in("band", selection.bands);
    if (selection.without_housekeeping) builder.require("NOT is_own");
    builder.require_in("kind", selection.kinds);
    builder.require_in("role", selection.roles);
    builder.require_any(selection.formats, "format = ?");
    builder.require_any(selection.extensions, "extension_of(name) = ?");
    builder.require_any(selection.names, "folded(name) GLOB folded(?)");
    if (!selection.folders.empty()) {
        std::vector<std::string> parts;
        for (const std::string& folder : selection.folders) {
            parts.emplace_back(
                "folded(folder) GLOB folded(?) OR folded(folder) GLOB folded(?) OR "
                "(is_folder AND folded(ltrim(folder || '/' || name, '/')) GLOB folded(?))");
            builder.text(folder);
            builder.text(folder + "/*");
            builder.text(folder);
        }
        builder.require(fmt::format("{}", fmt::join(parts, " OR ")));
    }
    if (!selection.ids.empty()) {
        std::vector<std::string> parts;
        for (const Range& range : selection.ids) {
            parts.emplace_back("id BETWEEN ? AND ?");
            builder.number(range.from.value_or(0));
            builder.number(range.to.value_or(INT64_MAX));
        }
        builder.require(fmt::format("{}", fmt::join(parts, " OR ")));
    }
    builder.require_listed("id", selection.only);
    builder.require_listed("id NOT", selection.without);
    builder.require_listed("volume", selection.volumes);
    builder.require_range("size", selection.size);
    builder.require_time("modified", selection.modified);
    builder.require_time("created", selection.created);
    builder.require_time("deleted", selection.deleted);
    builder.require_range("prospect", selection.prospect);
    builder.require_fact("'from'", selection.senders);
    builder.require_fact("'to', 'cc', 'bcc'", selection.recipients);
    builder.require_fact("'subject'", selection.subjects);
    if (selection.sent.from || selection.sent.to) {
        builder.require_fact("'sent'", {"*"});
        builder.require_time("modified", selection.sent);
    }
    return builder.finish();
}

}  // namespace dredger

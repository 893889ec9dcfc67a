#include "base/csv.h"

#include <algorithm>
#include <csv.h>

#include "base/text.h"

namespace dredger {
namespace {

struct Rows {
    std::vector<CsvTable::Row> done;
    CsvTable::Row current;
    std::size_t line = 1;  // that is being read
};

// Spreadsheets calculate what begins so.
constexpr std::string_view kFormulaMarks = "=+-@";

// What is a formula behind any number of apostrophes: one more stands before it in the table.
bool looks_like_formula(std::string_view field) {
    const std::size_t begin = field.find_first_not_of('\'');
    return begin != field.npos && begin + 1 < field.size() && kFormulaMarks.find(field[begin]) != kFormulaMarks.npos;
}

void take_field(void* field, std::size_t length, void* rows) {
    std::string_view text(static_cast<const char*>(field), length);
    if (text.starts_with('\'') && looks_like_formula(text)) text.remove_prefix(1);
    static_cast<Rows*>(rows)->current.fields.emplace_back(text);
}

void take_row(int, void* rows) {
    auto* all = static_cast<Rows*>(rows);
    const bool is_empty = all->current.fields.size() == 1 && all->current.fields.front().empty();
    if (!is_empty) all->done.push_back(std::move(all->current));
    all->current = {};
}

// Which of the usual ones stands most often in the first line, outside of quotes.
unsigned char delimiter_of(std::string_view text) {
    std::size_t commas = 0, semicolons = 0, tabs = 0;
    bool quoted = false;
    for (const char c : text.substr(0, text.find('\n'))) {
        if (c == '"') quoted = !quoted;
        if (quoted) continue;
        commas += c == ',' ? 1 : 0;
        semicolons += c == ';' ? 1 : 0;
        tabs += c == '\t' ? 1 : 0;
    }
    return semicolons > commas && semicolons >= tabs ? ';' : tabs > commas ? '\t' : ',';
}

bool is_blank(char c) { return c == ' ' || c == '\t'; }
bool needs_quotes(char c) { return c == ',' || c == '"' || c == '\r' || c == '\n' || c == ';'; }

}  // namespace

std::string csv_row(std::span<const std::string_view> fields) {
    std::string row;
    for (std::size_t i = 0; i < fields.size(); ++i) {
        if (i > 0) row += ',';
        std::string field = valid_utf8(fields[i]);
        if (looks_like_formula(field)) field.insert(0, 1, '\'');
        // Readers may drop spaces at either end of what is not quoted.
        const bool has_loose_ends = !field.empty() && (is_blank(field.front()) || is_blank(field.back()));
        if (!has_loose_ends && std::none_of(field.begin(), field.end(), needs_quotes)) {
            row += field;
            continue;
        }
        row += '"';
        for (const char c : field) {
            if (c == '"') row += '"';
            row += c;
        }
        row += '"';
    }
    return row + "\r\n";
}

std::string csv_row(const std::vector<std::string>& fields) {
    return csv_row(std::vector<std::string_view>(fields.begin(), fields.end()));
}

const std::string& CsvTable::field(const Row& row, std::string_view column) const {
    static const std::string kNothing;
    for (std::size_t i = 0; i < columns.size() && i < row.fields.size(); ++i)
        if (columns[i] == column) return row.fields[i];
    return kNothing;
}

Result<CsvTable> read_csv(std::string_view text) {
    if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
    csv_parser parser;
    Rows rows;
    csv_init(&parser, CSV_STRICT | CSV_STRICT_FINI);
    csv_set_delim(&parser, delimiter_of(text));
    bool whole = true;
    // Line by line, so that each row knows on which it begins.
    for (std::size_t from = 0; from < text.size() && whole; ++rows.line) {
        const std::size_t end = std::min(text.find('\n', from), text.size() - 1) + 1;
        constexpr int kNoRowBegun = 0;
        if (parser.pstate == kNoRowBegun) rows.current.line = rows.line;
        whole = csv_parse(&parser, text.data() + from, end - from, take_field, take_row, &rows) == end - from;
        from = end;
    }
    whole = whole && csv_fini(&parser, take_field, take_row, &rows) == 0;
    csv_free(&parser);
    if (!whole || rows.done.empty()) return fail(ErrorKind::usage, "this is no table of comma-separated values");
    CsvTable table;
    table.columns = std::move(rows.done.front().fields);
    rows.done.erase(rows.done.begin());
    table.rows = std::move(rows.done);
    return table;
}

Result<std::vector<std::map<std::string, std::string>>> parse_csv(std::string_view text) {
    DREDGER_TRY(const CsvTable read, read_csv(text));
    std::vector<std::map<std::string, std::string>> table;
    for (const CsvTable::Row& from : read.rows) {
        std::map<std::string, std::string> row;
        for (std::size_t i = 0; i < read.columns.size() && i < from.fields.size(); ++i)
            row[read.columns[i]] = from.fields[i];
        table.push_back(std::move(row));
    }
    return table;
}

}  // namespace dredger

// Comma-separated values as RFC 4180 has them, and as spreadsheets write them.
#pragma once

#include <map>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace dredger {

// One row as text, in UTF-8 (what is none becomes U+FFFD), quoted where needed, with its line end. A field that a
// spreadsheet would calculate gets an apostrophe, which reading takes off again.
std::string csv_row(std::span<const std::string_view> fields);
std::string csv_row(const std::vector<std::string>& fields);

struct CsvTable {
    struct Row {
        std::size_t line = 0;  // of the text, from 1, on which it begins
        std::vector<std::string> fields;
    };
    std::vector<std::string> columns;
    std::vector<Row> rows;  // empty lines are left out

    // A field by its column's name; empty where there is no such column, or the row ends before it.
    const std::string& field(const Row& row, std::string_view column) const;
};

// A table whose first row names the columns. A byte order mark, CRLF and quoted line breaks are taken as they come, and
// semicolons or tabs instead of commas. An error where the text is no such table.
Result<CsvTable> read_csv(std::string_view text);

// The same, each row with its fields by the names of the columns.
Result<std::vector<std::map<std::string, std::string>>> parse_csv(std::string_view text);

}  // namespace dredger

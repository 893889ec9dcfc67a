#include "base/csv.h"

#include <csv.h>

namespace dredger {
namespace {

struct Rows {
    std::vector<std::vector<std::string>> done;
    std::vector<std::string> current;
};

void take_field(void* field, std::size_t length, void* rows) {
    static_cast<Rows*>(rows)->current.emplace_back(static_cast<const char*>(field), length);
}

void take_row(int, void* rows) {
    auto* all = static_cast<Rows*>(rows);
    all->done.push_back(std::move(all->current));
    all->current.clear();
}

}  // namespace

std::string csv_row(const std::vector<std::string>& fields) {
    std::string row;
    for (const std::string& field : fields) {
        if (&field != &fields.front()) row += ',';
        if (field.find_first_of(",\"\r\n;") == std::string::npos) {
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

Result<std::vector<std::map<std::string, std::string>>> parse_csv(std::string_view text) {
    if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
    csv_parser parser;
    Rows rows;
    csv_init(&parser, CSV_STRICT);
    const bool whole = csv_parse(&parser, text.data(), text.size(), take_field, take_row, &rows) == text.size() &&
                       csv_fini(&parser, take_field, take_row, &rows) == 0;
    csv_free(&parser);
    if (!whole || rows.done.empty()) return fail(ErrorKind::usage, "this is no table of comma-separated values");
    const std::vector<std::string>& columns = rows.done.front();
    std::vector<std::map<std::string, std::string>> table;
    for (std::size_t n = 1; n < rows.done.size(); ++n) {
        std::map<std::string, std::string> row;
        for (std::size_t i = 0; i < columns.size() && i < rows.done[n].size(); ++i)
            row[columns[i]] = std::move(rows.done[n][i]);
        table.push_back(std::move(row));
    }
    return table;
}

}  // namespace dredger

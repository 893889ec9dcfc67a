// The tables of an SQLite database, read from a copy in memory.
#include <fmt/format.h>
#include <memory>
#include <sqlite3.h>

#include "base/amounts.h"
#include "base/text.h"
#include "preview/decoders.h"

namespace dredger::preview {
namespace {

constexpr std::uint64_t kMaxBytes = 256 << 20;  // of the database that are read

struct Closed {
    void operator()(sqlite3* database) const { sqlite3_close(database); }
    void operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
};
using Database = std::unique_ptr<sqlite3, Closed>;
using Statement = std::unique_ptr<sqlite3_stmt, Closed>;

Database opened(const Medium& content) {
    const auto size = static_cast<std::size_t>(std::min(content.size(), kMaxBytes));
    sqlite3* handle = nullptr;
    if (sqlite3_open(":memory:", &handle) != SQLITE_OK) return Database(handle);
    Database database(handle);
    auto* bytes = static_cast<unsigned char*>(sqlite3_malloc64(size));
    if (bytes == nullptr) return nullptr;
    std::vector<Extent> bad;
    const bool is_read = content.read(0, std::as_writable_bytes(std::span(bytes, size)), &bad).has_value();
    // With a log beside it, which was lost: what stands in the file itself is as good.
    if (size > 20 && bytes[18] == 2) bytes[18] = bytes[19] = 1;
    if (sqlite3_deserialize(handle, "main", bytes, static_cast<sqlite3_int64>(size), static_cast<sqlite3_int64>(size),
                            SQLITE_DESERIALIZE_FREEONCLOSE | SQLITE_DESERIALIZE_READONLY) != SQLITE_OK ||
        !is_read)
        return nullptr;
    sqlite3_db_config(handle, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(handle, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    return database;
}

Statement prepared(sqlite3* database, const std::string& sql) {
    sqlite3_stmt* statement = nullptr;
    sqlite3_prepare_v2(database, sql.c_str(), static_cast<int>(sql.size()), &statement, nullptr);
    return Statement(statement);
}

std::string text_at(sqlite3_stmt* row, int column) {
    const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(row, column));
    return text != nullptr ? text : "";
}

std::string quoted(const std::string& name) {
    std::string text = "\"";
    for (const char c : name) text += c == '"' ? std::string("\"\"") : std::string(1, c);
    return text + "\"";
}

std::string columns_of(sqlite3* database, const std::string& table) {
    constexpr std::size_t kMax = 12;
    const Statement rows = prepared(database, "PRAGMA table_info(" + quoted(table) + ")");
    std::vector<std::string> names;
    while (rows && names.size() < kMax && sqlite3_step(rows.get()) == SQLITE_ROW)
        names.push_back(text_at(rows.get(), 1));
    return fmt::format("{}", fmt::join(names, ", "));
}

}  // namespace

std::string tables_of(const Medium& content) {
    constexpr int kMaxTables = 500;
    const Database database = opened(content);
    if (!database) return {};
    const Statement tables = prepared(database.get(),
                                      "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE "
                                      "'sqlite~_%' ESCAPE '~' ORDER BY name LIMIT 500");
    std::string text;
    for (int n = 0; tables && n < kMaxTables && sqlite3_step(tables.get()) == SQLITE_ROW; ++n) {
        const std::string name = text_at(tables.get(), 0);
        const Statement count = prepared(database.get(), "SELECT count(*) FROM " + quoted(name));
        const bool is_counted = count && sqlite3_step(count.get()) == SQLITE_ROW;
        const auto rows = is_counted ? static_cast<std::uint64_t>(sqlite3_column_int64(count.get(), 0)) : 0;
        text += fmt::format("{}: {}\n    {}\n", printable(name),
                            !is_counted ? std::string("its rows can't be read")
                            : rows == 1 ? std::string("1 row")
                                        : count_text(rows) + " rows",
                            printable(columns_of(database.get(), name)));
    }
    return text;
}

}  // namespace dredger::preview

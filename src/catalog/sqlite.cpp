#include "catalog/sqlite.h"

#include <cerrno>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

namespace dredger::sqlite {
namespace {

tl::unexpected<Error> failure(sqlite3* handle) {
    const int code = sqlite3_extended_errcode(handle);
    const char* file = sqlite3_db_filename(handle, "main");
    const int reason = sqlite3_system_errno(handle);
    const bool is_full = (code & 0xFF) == SQLITE_FULL || ((code & 0xFF) == SQLITE_IOERR && is_want_of_room(reason));
    // Where it is there and can't be opened, what can't be made is the log beside it.
    const bool has_no_log = (code & 0xFF) == SQLITE_CANTOPEN && file != nullptr && ::access(file, R_OK | W_OK) == 0;
    const bool is_failing = (code & 0xFF) == SQLITE_IOERR || has_no_log;
    const ErrorKind kind = is_full || is_failing ? ErrorKind::gave_out
                           : (code & 0xFF) == SQLITE_NOTADB || (code & 0xFF) == SQLITE_CORRUPT
                               ? ErrorKind::not_understood
                           : (code & 0xFF) == SQLITE_CANTOPEN || (code & 0xFF) == SQLITE_AUTH ? ErrorKind::unreadable
                                                                                              : ErrorKind::output;
    return fail(kind,
                std::string("the catalog: ") + (is_full      ? "no more room"
                                                : has_no_log ? "its log can't be written"
                                                             : sqlite3_errmsg(handle)),
                file == nullptr ? "" : file,
                is_full                        ? "free some space and run the same command again"
                : is_failing                   ? "check its drive and the room on it, then run the same command again"
                : (code & 0xFF) == SQLITE_BUSY ? "another command is writing to it; try again when it is done"
                : (code & 0xFF) == SQLITE_CORRUPT ? "it is damaged; scan again into a new catalog"
                                                  : "");
}

std::string uri_of(const std::string& path) {
    std::string uri = "file:";
    for (const char c : path)
        uri += c == '%' || c == '?' || c == '#' ? fmt::format("%{:02X}", static_cast<unsigned char>(c))
                                                : std::string(1, c);
    return uri;
}

}  // namespace

void Statement::Finalize::operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
void Database::Close::operator()(sqlite3* handle) const { sqlite3_close_v2(handle); }

Statement& Statement::bind(int parameter, std::int64_t value) {
    sqlite3_bind_int64(statement_.get(), parameter, value);
    return *this;
}

Statement& Statement::bind(int parameter, std::string_view value) {
    // Without an address it would be NULL, not an empty text.
    sqlite3_bind_text(statement_.get(), parameter, value.empty() ? "" : value.data(), static_cast<int>(value.size()),
                      SQLITE_TRANSIENT);
    return *this;
}

Statement& Statement::bind(int parameter, std::span<const std::byte> value) {
    sqlite3_bind_blob64(statement_.get(), parameter, value.data(), value.size(), SQLITE_TRANSIENT);
    return *this;
}

Statement& Statement::bind_null(int parameter) {
    sqlite3_bind_null(statement_.get(), parameter);
    return *this;
}

Result<bool> Statement::step() {
    const int code = sqlite3_step(statement_.get());
    if (code == SQLITE_ROW) return true;
    if (code == SQLITE_DONE) return false;
    return failure(sqlite3_db_handle(statement_.get()));
}

Result<void> Statement::run() {
    auto done = step();
    reset();
    return done.map([](bool) {});
}

void Statement::reset() {
    sqlite3_reset(statement_.get());
    sqlite3_clear_bindings(statement_.get());
}

std::int64_t Statement::number(int column) const { return sqlite3_column_int64(statement_.get(), column); }

std::string Statement::text(int column) const {
    const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(statement_.get(), column));
    return text == nullptr
               ? std::string()
               : std::string(text, static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), column)));
}

std::vector<std::byte> Statement::blob(int column) const {
    const auto* bytes = static_cast<const std::byte*>(sqlite3_column_blob(statement_.get(), column));
    return bytes == nullptr ? std::vector<std::byte>()
                            : std::vector<std::byte>(bytes, bytes + sqlite3_column_bytes(statement_.get(), column));
}

bool Statement::is_null(int column) const { return sqlite3_column_type(statement_.get(), column) == SQLITE_NULL; }

Result<Database> Database::open(const std::string& path, Mode mode) {
    Database database;
    sqlite3* handle = nullptr;
    const int flags = mode == Mode::create       ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE
                      : mode == Mode::read_write ? SQLITE_OPEN_READWRITE
                      : mode == Mode::read_only  ? SQLITE_OPEN_READONLY
                                                 : SQLITE_OPEN_READONLY | SQLITE_OPEN_URI;
    const std::string place = mode == Mode::unchanging ? uri_of(path) + "?immutable=1" : path;
    const int code = sqlite3_open_v2(place.c_str(), &handle, flags | SQLITE_OPEN_NOMUTEX, nullptr);
    database.handle_.reset(handle);
    if (code != SQLITE_OK) return failure(handle);
    sqlite3_busy_timeout(handle, 5000);
    return database;
}

Result<void> Database::execute(const char* sql) {
    if (sqlite3_exec(handle_.get(), sql, nullptr, nullptr, nullptr) != SQLITE_OK) return failure(handle_.get());
    return {};
}

Result<Statement> Database::prepare(std::string_view sql) const {
    Statement statement;
    sqlite3_stmt* raw = nullptr;
    if (sqlite3_prepare_v2(handle_.get(), sql.data(), static_cast<int>(sql.size()), &raw, nullptr) != SQLITE_OK)
        return failure(handle_.get());
    statement.statement_.reset(raw);
    return statement;
}

Result<std::int64_t> Database::number(std::string_view sql) const {
    DREDGER_TRY(Statement statement, prepare(sql));
    DREDGER_TRY(const bool there, statement.step());
    return there ? statement.number(0) : 0;
}

std::string Database::content() const {
    sqlite3_int64 size = 0;
    const std::unique_ptr<unsigned char, decltype(&sqlite3_free)> bytes(
        sqlite3_serialize(handle_.get(), "main", &size, 0), sqlite3_free);
    return bytes == nullptr ? std::string()
                            : std::string(reinterpret_cast<const char*>(bytes.get()), static_cast<std::size_t>(size));
}

std::int64_t Database::last_id() const { return sqlite3_last_insert_rowid(handle_.get()); }

std::string_view text_of(sqlite3_value* value) {
    const auto* text = reinterpret_cast<const char*>(sqlite3_value_text(value));
    return text == nullptr ? std::string_view()
                           : std::string_view(text, static_cast<std::size_t>(sqlite3_value_bytes(value)));
}

void answer(sqlite3_context* context, const std::string& text) {
    sqlite3_result_text(context, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
}

}  // namespace dredger::sqlite

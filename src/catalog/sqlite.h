// SQLite with errors as values and statements that are finalised by themselves. One thread uses a database at a time.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <vector>

#include "base/error.h"

struct sqlite3;
struct sqlite3_context;
struct sqlite3_stmt;
struct sqlite3_value;

namespace dredger::sqlite {

class Statement {
  public:
    Statement() = default;

    // Parameters count from 1.
    Statement& bind(int parameter, std::int64_t value);
    Statement& bind(int parameter, std::string_view value);
    Statement& bind(int parameter, std::span<const std::byte> value);
    Statement& bind_null(int parameter);
    Statement& bind(int parameter, const std::optional<std::int64_t>& value) {
        return value ? bind(parameter, *value) : bind_null(parameter);
    }

    // True: a row is there. False: done.
    Result<bool> step();
    // Runs to the end and makes the statement ready for the next use.
    Result<void> run();
    void reset();

    // Columns count from 0.
    std::int64_t number(int column) const;
    std::string text(int column) const;
    std::vector<std::byte> blob(int column) const;
    bool is_null(int column) const;
    bool is_prepared() const { return statement_ != nullptr; }

    // Runs to the end; `visit` is called at each row, and stops it where it returns false, if it returns anything.
    // Ready for the next use then.
    template <class Visit>
    Result<void> each(const Visit& visit) {
        for (;;) {
            const auto there = step();
            if (!there || !*there || !goes_on(visit)) {
                reset();
                return there ? Result<void>() : tl::unexpected<Error>(there.error());
            }
        }
    }

  private:
    template <class Visit>
    static bool goes_on(const Visit& visit) {
        if constexpr (std::is_void_v<decltype(visit())>)
            return visit(), true;
        else
            return visit();
    }

    friend class Database;
    struct Finalize {
        void operator()(sqlite3_stmt* statement) const;
    };
    std::unique_ptr<sqlite3_stmt, Finalize> statement_;
};

class Database {
  public:
    // `unchanging`: nobody can write to it, not even what readers of a database need.
    enum class Mode { create, read_write, read_only, unchanging };
    static Result<Database> open(const std::string& path, Mode mode);

    Result<void> execute(const char* sql);
    Result<Statement> prepare(std::string_view sql) const;
    Result<std::int64_t> number(std::string_view sql) const;  // of a query with one row and one column
    std::int64_t last_id() const;
    std::string content() const;  // what its file holds, or would hold
    sqlite3* handle() const { return handle_.get(); }

  private:
    struct Close {
        void operator()(sqlite3* handle) const;
    };
    std::unique_ptr<sqlite3, Close> handle_;
};

// For functions that are called from SQL.
std::string_view text_of(sqlite3_value* value);  // empty for NULL
void answer(sqlite3_context* context, const std::string& text);

}  // namespace dredger::sqlite

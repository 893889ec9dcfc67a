// What went wrong, as a value: what, where (a path or an offset on the medium), and what the technician can do.
#pragma once

#include <string>
#include <string_view>
#include <tl/expected.hpp>
#include <utility>

namespace dredger {

enum class ErrorKind {
    usage,           // the call's words are off
    unreadable,      // a source can't be opened or read
    not_understood,  // it was read, but is not what it should be
    unsafe,          // refused because somebody's data could be destroyed
    output,          // something can't be written where it was asked for
    gave_out,        // the same, and its drive is the cause: there is no more room, or it fails
    interrupted,     // somebody asked to stop
};

struct Error {
    ErrorKind kind;
    std::string what;
    std::string where;  // may be empty
    std::string hint;   // may be empty

    // The one line shown to a person: "what: where; hint".
    std::string line() const {
        std::string text = what;
        if (!where.empty()) text += ": " + where;
        if (!hint.empty()) text += "; " + hint;
        return text;
    }
};

template <class T>
using Result = tl::expected<T, Error>;

inline tl::unexpected<Error> fail(ErrorKind kind, std::string what, std::string where = {}, std::string hint = {}) {
    return tl::unexpected<Error>(Error{kind, std::move(what), std::move(where), std::move(hint)});
}

// Whether such an errno says that there is no room, or that the drive fails.
bool is_want_of_room(int reason);
bool is_failure_of_drive(int reason);
// Something can't be written, for the reason that errno has: "what (reason): where; hint".
tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint);
tl::unexpected<Error> not_written(std::string what, std::string where, std::string hint, int reason);

// Hands on the error of an expression of type Result, or binds its value to `name`.
#define DREDGER_JOIN_(a, b) a##b
#define DREDGER_JOIN(a, b) DREDGER_JOIN_(a, b)
// NOLINTBEGIN(bugprone-macro-parentheses): `name` is a declaration
#define DREDGER_TRY(name, expression)                                                             \
    auto DREDGER_JOIN(try_, __LINE__) = (expression);                                             \
    if (!DREDGER_JOIN(try_, __LINE__))                                                            \
        return tl::unexpected<::dredger::Error>(std::move(DREDGER_JOIN(try_, __LINE__)).error()); \
    name = std::move(*DREDGER_JOIN(try_, __LINE__))
// NOLINTEND(bugprone-macro-parentheses)
#define DREDGER_CHECK(expression)                                                        \
    if (auto DREDGER_JOIN(try_, __LINE__) = (expression); !DREDGER_JOIN(try_, __LINE__)) \
    return tl::unexpected<::dredger::Error>(std::move(DREDGER_JOIN(try_, __LINE__)).error())

}  // namespace dredger

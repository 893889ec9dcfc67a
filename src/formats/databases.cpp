#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& databases() {
    static const std::vector<Format> family = {
        {"sqlite", Kind::database, {"sqlite", "sqlite3", "db3"}, {{{0, "SQLite format 3\0"sv}}}},
        {"access",
         Kind::database,
         {"mdb", "accdb"},
         {{{0, "\0\1\0\0Standard Jet DB"sv}}, {{0, "\0\1\0\0Standard ACE DB"sv}}}},
        {"keepass", Kind::database, {"kdbx"}, {{{0, "\x03\xD9\xA2\x9A\x67\xFB\x4B\xB5"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats

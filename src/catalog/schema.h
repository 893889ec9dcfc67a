// The tables of a catalog, and how catalogs of earlier versions become today's. docs/catalog.md describes them.
#pragma once

#include "catalog/sqlite.h"

namespace dredger {

// What PRAGMA user_version holds. A change of the tables raises it and adds a step to schema.cpp.
inline constexpr int kCatalogVersion = 12;
inline constexpr int kCatalogApplicationId = 0x44524447;  // "DRDG": what `file` and SQLite call the kind of database

// Makes the tables of an empty database.
Result<void> make_tables(sqlite::Database& database);

// Brings the tables of version `from` to today's, all or none of it. `from` is 1 to kCatalogVersion.
Result<void> migrate(sqlite::Database& database, int from);

}  // namespace dredger

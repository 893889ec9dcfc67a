// What commands print for programs: docs/json.md names every field.
#pragma once

#include <nlohmann/json.hpp>
#include <optional>

#include "base/times.h"
#include "catalog/candidate.h"
#include "catalog/grouping.h"

namespace dredger::cli {

using Json = nlohmann::ordered_json;

// With a Z where it is UTC; digits alone where the zone of the clock is not known.
Json time_or_null(const std::optional<FileTime>& time);

// A find as every command tells of it. `volume`: its number.
Json json_of(const Candidate& candidate, const std::string& catalog, unsigned volume);
// Where it lies: [offset, bytes] each, or [offset, bytes, packing], or ["zeros", bytes].
Json json_of(const MediumLayout& layout);
// {"files", "folders", "bytes", "sound", "patchy", "faint", "gone"}
Json json_of(const Totals& totals);

// One line to stdout: of several objects each is one.
void print_line(const Json& object);
// The only document, for people to read, too.
void print_document(const Json& object);

}  // namespace dredger::cli

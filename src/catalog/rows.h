// How candidates stand in the tables of a catalog: columns, bindings and rows all follow from catalog/fields.h.
#pragma once

#include <bit>
#include <string>
#include <vector>

#include "catalog/candidate.h"
#include "catalog/selection.h"
#include "catalog/sqlite.h"

namespace dredger::rows {

// The columns of the table `candidates`, in the order in which candidate_at() expects and bind_candidate() gives them:
// by name, as they are declared, as parameters of an INSERT and as assignments of an UPDATE.
const std::string& columns();
const std::string& declarations();
const std::string& parameters();
const std::string& assignments();
// What is learnt of a candidate after the scan.
const std::string& learnt_assignments();

// Each returns the number of the next parameter.
int bind_candidate(sqlite::Statement& statement, const Candidate& candidate);
int bind_learnt(sqlite::Statement& statement, const Learnt& learnt);
// Without its layout's extents and sums.
Candidate candidate_at(const sqlite::Statement& row);
// All that a statement selects.
Result<std::vector<Candidate>> candidates_of(sqlite::Statement& rows);

// The totals of any candidates: folders, files of each band, bytes, and those that are expected to come back.
inline constexpr const char* kTotalColumns =
    "sum(is_folder), sum(NOT is_folder AND band=0), sum(NOT is_folder AND band=1), sum(NOT is_folder AND band=2), "
    "sum(NOT is_folder AND band=3), sum(CASE WHEN is_folder THEN 0 ELSE size END), "
    "sum(CASE WHEN is_folder THEN 0.0 ELSE size * (prospect / 100.0) END)";

void bind_values(sqlite::Statement& statement, const Condition& condition);

// SQLite holds signed numbers: what is above their range comes back as it was.
inline std::int64_t stored(std::uint64_t value) { return static_cast<std::int64_t>(value); }
inline std::uint64_t loaded(std::int64_t value) { return static_cast<std::uint64_t>(value); }

// The number by which a word of an enumeration is kept.
template <class Enum>
constexpr std::int64_t code(Enum value) {
    return static_cast<std::int64_t>(value);
}

// By how many bits an extent's length takes, extents that overlap a place are found without looking at all of them.
inline int size_class_of(std::uint64_t length) { return static_cast<int>(std::bit_width(length)); }

// Lists are kept as JSON: ["one", "two"], and facts as [["name", "value"], ...]. Bytes that are no UTF-8 are replaced.
std::string json_of(const std::vector<std::string>& list);
std::string json_of(const std::vector<Fact>& facts);
std::string json_of(const std::vector<Extent>& extents);  // [[offset, length], ["zeros", length], ...]
std::vector<std::string> strings_from(const std::string& json);
std::vector<Fact> facts_from(const std::string& json);
std::vector<Extent> extents_from(const std::string& json);

}  // namespace dredger::rows

// How candidates stand in the tables of a catalog.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "catalog/candidate.h"
#include "catalog/selection.h"
#include "catalog/sqlite.h"

namespace dredger::rows {

// Of the table `candidates`, in the order in which candidate_at() expects them and bind_candidate() gives them.
extern const char* const kColumns;
inline constexpr int kColumnCount = 37;

// SQLite holds signed numbers; stretches that no medium holds are negative, everything else is smaller.
inline std::int64_t stored(std::uint64_t value) { return static_cast<std::int64_t>(value); }
inline std::uint64_t loaded(std::int64_t value) { return static_cast<std::uint64_t>(value); }

// Lists of sentences and words are kept a line each, a fact as "NAME: VALUE".
std::string list_text(const std::vector<std::string>& list);
std::vector<std::string> list_from(const std::string& text);
std::string facts_text(const std::vector<Fact>& facts);
std::optional<std::int64_t> likeness_of(const Learnt& learnt);

// Without its layout.
Candidate candidate_at(const sqlite::Statement& row);
void bind_candidate(sqlite::Statement& statement, const Candidate& candidate);

void bind_values(sqlite::Statement& statement, const Condition& condition);

}  // namespace dredger::rows

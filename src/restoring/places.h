// Where restored files land: names that every destination takes, and nothing outside the destination.
#pragma once

#include <filesystem>
#include <set>
#include <string>

namespace dredger {

// One part of a path as a destination can take it: no separators or control characters, not "." or "..", not reserved,
// at most 240 bytes.
std::string safe_part(std::string_view part);

// The relative path for an original path; never empty, never leaving the destination.
std::filesystem::path safe_path(std::string_view original);

enum class IfExists { number, skip, replace };

// `wanted`, or where it is taken (there, or in `promised`) the first of "NAME (2).EXT", "NAME (3).EXT" ... that is not.
std::filesystem::path free_name(const std::filesystem::path& wanted, const std::set<std::filesystem::path>& promised);

}  // namespace dredger

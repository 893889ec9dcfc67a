// Comma-separated values as RFC 4180 has them.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace dredger {

// One row as text, quoted where needed, with its line end.
std::string csv_row(const std::vector<std::string>& fields);

// A table whose first row names the columns. Rows keep their fields by these names; a byte order mark, CRLF and quoted
// line breaks are taken as they come. An error where the text is no such table.
Result<std::vector<std::map<std::string, std::string>>> parse_csv(std::string_view text);

}  // namespace dredger

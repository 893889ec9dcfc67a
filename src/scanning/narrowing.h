// What narrows which of a volume's records a scan keeps, as the catalog remembers it.
#pragma once

#include <string>

#include "scanning/scan_request.h"

namespace dredger {

// A JSON object; "{}" where nothing does.
std::string narrowing_of(const ScanRequest& request);

// Whether all that a scan narrowed like `wanted` would keep was kept by one narrowed like `before`; both are of
// narrowing_of().
bool keeps_all_of(const std::string& before, const std::string& wanted);

// Whether both read names alike: what one kept may stand beside what the other will.
bool reads_names_alike(const std::string& before, const std::string& wanted);

}  // namespace dredger

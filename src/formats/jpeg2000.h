// The codestream of JPEG 2000 (ISO/IEC 15444-1, Annex A), by itself or in the box of a file.
#pragma once

#include "formats/format.h"

namespace dredger::formats {

// Measures what begins at `at`, and counts from there.
Measured measure_codestream(Reader& content, std::uint64_t at);

}  // namespace dredger::formats

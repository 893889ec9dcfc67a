// Small files of dredger's own that are never half-written.
#pragma once

#include <filesystem>
#include <string_view>

#include "base/error.h"

namespace dredger {

// Under another name first, synced, then moved to its place: there is always a whole one.
Result<void> write_whole_file(const std::filesystem::path& file, std::string_view text);

}  // namespace dredger

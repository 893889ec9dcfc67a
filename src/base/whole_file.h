// Small files that are read as a whole, and such of dredger's own that are never half-written.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>

#include "base/error.h"

namespace dredger {

// All of a file. An error where it can't be read.
Result<std::string> read_whole_file(const std::filesystem::path& file);

// Under another name first, synced, then moved to its place: there is always a whole one.
Result<void> write_whole_file(const std::filesystem::path& file, std::string_view text);

}  // namespace dredger

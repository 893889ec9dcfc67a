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

// The same, but what has come to that place meanwhile stays as it is.
Result<void> write_new_file(const std::filesystem::path& file, std::string_view text);

// Writes over what is there, but never through a link, and waits for no drive: for what can be made again. `what` is
// said where it fails.
Result<void> write_over(const std::filesystem::path& file, std::string_view bytes,
                        const std::string& what = "this can't be written");

}  // namespace dredger

// Writing below a folder without being led out of it: links that somebody planted there are never followed.
#pragma once

#include <filesystem>
#include <system_error>

#include "base/error.h"

namespace dredger {

// A path that was split where the trusted part ends: `root` is what the user named, `relative` follows from what is
// written and has neither "." nor "..".
struct PathBeneath {
    std::filesystem::path root, relative;
    std::filesystem::path whole() const { return root / relative; }
};

// Makes the folder and those above it, below the root. ELOOP or ENOTDIR where a link or a file is in the way.
std::error_code make_folder_beneath(const PathBeneath& folder);

// Gives the file at `from` this name, in place of what has it.
std::error_code rename_beneath(const std::filesystem::path& from, const PathBeneath& to);

// The folder itself, or the nearest one above it that there is; absolute.
std::filesystem::path nearest_existing(const std::filesystem::path& folder);

// An error where a link stands at this path, which is to be written.
Result<void> refuse_link(const std::filesystem::path& file);

}  // namespace dredger

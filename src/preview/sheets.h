// Contact sheets: pictures of many candidates on one, with their names, dates and prospects.
#pragma once

#include <filesystem>

#include "preview/page.h"

namespace dredger::preview {

// Writes sheets/sheet-001.png and so on below `folder`; how many.
std::uint64_t write_sheets(const std::vector<Shown>& shown, const std::filesystem::path& folder);

}  // namespace dredger::preview

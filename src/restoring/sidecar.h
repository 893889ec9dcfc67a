// A small file beside one that did not come back whole: which of its bytes are missing, and what is doubted of it.
#pragma once

#include <filesystem>

#include "catalog/catalog.h"

namespace dredger {

// NAME.missing.json
std::filesystem::path sidecar_of(const std::filesystem::path& file);

// `gaps`: bytes of the file that could not be had. What others of its catalog have taken over is told besides.
Result<void> write_sidecar(const std::filesystem::path& file, const Catalog& catalog, const Candidate& candidate,
                           const std::vector<Extent>& gaps);

}  // namespace dredger

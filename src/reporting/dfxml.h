// Digital Forensics XML, the open format for exchanging file metadata (dfxml-working-group/dfxml_schema,
// version 1.1.1).
#pragma once

#include <filesystem>

#include "catalog/catalog.h"

namespace dredger::reporting {

Result<void> write_dfxml(const Catalog& catalog, const Selection& selection, const std::string& version,
                         const std::filesystem::path& file);

}  // namespace dredger::reporting

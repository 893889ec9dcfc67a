// Opens the media that a catalog was made from, for everything that reads contents after the scan: they must be the
// same ones, and what is written meanwhile must not lie on them.
#pragma once

#include <filesystem>
#include <map>
#include <set>

#include "catalog/catalog.h"

namespace dredger {

struct AttachRequest {
    std::filesystem::path source;       // where the medium is now; empty: where it was scanned
    std::filesystem::path destination;  // what will be written to; empty: nothing is
    bool onto_same_drive = false;       // spelled out: the destination may lie on the drive being read
    bool from_changed_source = false;   // spelled out: the source may be another than the one scanned
};

struct Attached {
    std::map<std::int64_t, MediumPtr> media;  // by volume
    std::vector<std::string> remarks;         // what was found odd, and what was overridden
};

Result<Attached> attach(const Catalog& catalog, const std::set<std::int64_t>& volumes, const AttachRequest& request);

}  // namespace dredger

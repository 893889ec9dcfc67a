// One catalog's part of a restore, and its media.
#pragma once

#include <filesystem>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "catalog/catalog.h"
#include "media/presence.h"

namespace dredger {

struct Job {
    Catalog* catalog = nullptr;
    std::string name;  // of the catalog, as in the manifest
    const Selection* selection = nullptr;
    std::filesystem::path source;  // where the medium is now; empty: where it was scanned
    std::uint64_t files = 0, folders = 0, bytes = 0;
    std::set<std::int64_t> wanted = {};                               // volumes of which something is
    std::map<std::int64_t, MediumPtr> media = {};                     // by volume
    std::map<std::int64_t, std::unique_ptr<Presence>> presence = {};  // of these
    std::map<std::int64_t, std::string> volumes = {};                 // names by volume
    std::map<std::int64_t, std::filesystem::path> folder_for = {};    // by volume, below the destination
    std::vector<Learnt> learnt = {};                                  // of those that were checked on the way
};

}  // namespace dredger

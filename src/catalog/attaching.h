// Opens the media that a catalog was made from, for everything that reads contents after the scan: they must be the
// same ones, and what is written meanwhile must not lie on them.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <set>

#include "catalog/catalog.h"
#include "media/coverage.h"

namespace dredger {

struct AttachRequest {
    std::filesystem::path source;       // where the medium is now; empty: where it was scanned
    std::filesystem::path destination;  // what will be written to; empty: nothing is
    bool onto_same_drive = false;       // spelled out: the destination may lie on the drive being read
    bool from_changed_source = false;   // spelled out: the source may be another than the one scanned
    std::vector<std::filesystem::path> further_destinations = {};  // what else will be written to

    // A medium is not there, or another one is in its place. Where it is now (the same place: try again), or nothing:
    // go on without it. May be empty: then it is an error.
    std::function<std::optional<std::filesystem::path>(const ScannedSource& source, const Error& error)> missing = {};
};

struct Attached {
    std::map<std::int64_t, MediumPtr> media;  // by volume; without those that are missing
    std::vector<std::string> remarks;         // what was found odd, and what was overridden
    std::optional<Error> first_missing;       // why the first of those is not there
};

// An error where writing to `destination` could destroy what is read from one of these files.
Result<void> refuse_danger(const std::filesystem::path& destination, const std::vector<std::filesystem::path>& files);

// The same of all media that the catalog was made from.
Result<void> refuse_danger(const std::filesystem::path& destination, const Catalog& catalog);

Result<Attached> attach(const Catalog& catalog, const std::set<std::int64_t>& volumes, const AttachRequest& request);
// All volumes.
Result<Attached> attach(const Catalog& catalog, const AttachRequest& request);

// What of a source can't be read: what the scan could not, and what is known of the medium itself, as a copy's map
// tells it; null where it is not at hand.
Result<Coverage> unreadable_of(const Catalog& catalog, std::int64_t source, const MediumPtr& medium);

}  // namespace dredger

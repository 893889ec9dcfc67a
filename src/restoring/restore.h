// Writes chosen candidates of one or several catalogs elsewhere: content, names, folders, dates; with a manifest,
// checksums and a log.
#pragma once

#include <filesystem>
#include <optional>
#include <vector>

#include "base/observer.h"
#include "catalog/catalog.h"
#include "restoring/landing.h"
#include "restoring/outcome.h"

namespace dredger {

// What of one catalog is wanted.
struct RestoreJob {
    Catalog* catalog = nullptr;
    Selection selection;
    std::filesystem::path source = {};  // where its medium is now; empty: where it was scanned
};

enum class Partials {
    keep,   // what is not believed whole goes where it belongs
    skip,   // it is not written
    aside,  // it goes into a folder of its own, with a file beside it that tells what is missing
};
inline constexpr std::string_view kPartialsWords[] = {"keep", "skip", "aside"};
inline constexpr std::string_view kAsideFolder = "not whole";

struct RestoreRequest {
    std::filesystem::path destination;
    Arrangement arrangement = Arrangement::tree;
    std::optional<Pattern> rename;
    IfExists if_exists = IfExists::number;
    Partials partials = Partials::keep;
    std::optional<NameRules> names;             // none: those of the destination
    std::vector<std::filesystem::path> beyond;  // what earlier runs restored into these folders is not restored again
    SumKind sums = SumKind::sha256;
    bool volume_folders = false;  // a folder above all for each volume, of several catalogs in one for each of these
    bool as_original = false;     // safety copies take the names and places of their documents
    bool verify = false;          // every file is read back, also those of earlier runs into this destination
    bool dry_run = false;
    bool onto_same_drive = false;      // spelled out: the destination may lie on the drive being read
    bool from_changed_source = false;  // spelled out: the source may be another than the one scanned
};

struct RestoredItem {
    const Candidate& candidate;
    std::filesystem::path relative;  // below the destination
    Outcome outcome;
    std::string why;  // of skipped, partial and failed
};

struct RestoreReport {
    std::uint64_t files = 0;       // selected
    std::uint64_t folders = 0;     // selected
    std::uint64_t bytes = 0;       // selected
    std::uint64_t counts[6] = {};  // by Outcome, files and folders
    std::uint64_t written = 0;     // bytes
    bool interrupted = false;
    std::optional<Error> stopped;       // why the run ended before its end, where it did
    std::uint64_t remaining_files = 0;  // then: that were not tried
    std::uint64_t remaining_bytes = 0;
    std::vector<std::string> missing;  // media that were not attached, a line each
    std::vector<std::string> spoiled;  // with `verify`: what earlier runs restored and is not that any more

    std::uint64_t count(Outcome outcome) const { return counts[static_cast<std::size_t>(outcome)]; }
};

struct MissingMedium {
    std::filesystem::path catalog;
    ScannedSource source;
    std::uint64_t files = 0;  // that are wanted of this catalog
    Error why;
};

class RestoreObserver : public Observer {
  public:
    virtual void item(const RestoredItem& item) = 0;
    // Where the medium is now (empty: where it was), or nothing: go on without it.
    virtual std::optional<std::filesystem::path> missing_medium(const MissingMedium& /*medium*/) { return {}; }
};

// Before the first byte is written it is checked that the destination is safe to write to. The jobs are done one after
// another; a medium that is not attached costs only what is wanted of it, unless it is the only one. A destination that
// is full ends the run before the next file. What is learnt of the finds meanwhile is kept in their catalogs.
Result<RestoreReport> restore(const std::vector<RestoreJob>& jobs, const RestoreRequest& request,
                              RestoreObserver& observer);

}  // namespace dredger

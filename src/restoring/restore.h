// Writes chosen candidates elsewhere: content, names, folders, dates; with a manifest, checksums and a log.
#pragma once

#include <filesystem>
#include <optional>

#include "base/observer.h"
#include "catalog/catalog.h"
#include "restoring/places.h"

namespace dredger {

struct RestoreRequest {
    Selection selection;
    std::filesystem::path destination;
    IfExists if_exists = IfExists::number;
    bool dry_run = false;
    std::filesystem::path source;      // where the medium is now; empty: where it was scanned
    bool onto_same_drive = false;      // spelled out: the destination may lie on the drive being read
    bool from_changed_source = false;  // spelled out: the source may be another than the one scanned
};

enum class Outcome {
    whole,     // all bytes were read, and the prospect is sound
    doubtful,  // all bytes were read, but the prospect says that they may not all be right
    partial,   // some bytes could not be had; zeros stand for them
    skipped,   // a file of that name was there
    already,   // an earlier run into this destination restored it
    failed,    // nothing of it could be had or written
};

inline constexpr std::string_view kOutcomeWords[] = {"whole", "doubtful", "partial", "skipped", "already", "failed"};
inline std::string_view word_for(Outcome outcome) { return kOutcomeWords[static_cast<std::size_t>(outcome)]; }

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
    std::optional<Error> stopped;  // why the run ended before its end, where it did
};

class RestoreObserver : public Observer {
  public:
    virtual void item(const RestoredItem& item) = 0;
};

// All or nothing is checked before the first byte is written: the source is the one scanned, the destination is safe to
// write to and has room for all of it.
// What is learnt of the finds meanwhile is kept in the catalog.
Result<RestoreReport> restore(Catalog& catalog, const RestoreRequest& request, RestoreObserver& observer);

}  // namespace dredger

// Mends damaged files: from the command line's files and folders, or finds of catalogs that are read straight from
// their media. The input is never changed; what comes of it goes to a folder, with a table of what was done.
#pragma once

#include <array>
#include <filesystem>

#include "base/observer.h"
#include "catalog/attaching.h"
#include "repairing/mending.h"

namespace dredger {

inline constexpr std::string_view kRepairTable = "repairs.csv";

struct RepairRequest {
    std::vector<std::filesystem::path> files;  // and folders, all of whose files are taken that can be repaired
    // Finds of catalogs, which must outlive the run.
    struct Finds {
        Catalog* catalog = nullptr;
        Selection selection;
        AttachRequest attach = {};
    };
    std::vector<Finds> finds = {};
    std::vector<std::filesystem::path> references = {};
    std::filesystem::path destination;
    std::filesystem::path look = {};  // folder for a page that shows files before and after; empty: none is made
};

// What came of one file, as the table has it.
struct RepairedItem {
    std::string file;    // as it was given; of a find the catalog and its number
    std::string result;  // below the destination; empty: there is none
    std::string_view format;
    repairing::Outcome outcome = repairing::Outcome::beyond;
    std::uint64_t kept = 0, of = 0;
    std::string_view unit;
    std::string sha256;
    std::string what;
};

class RepairObserver : public Observer {
  public:
    virtual void item(const RepairedItem& item) = 0;
};

struct RepairReport {
    std::array<std::uint64_t, std::size(repairing::kOutcomeWords)> outcomes{};
    std::uint64_t files = 0;           // that were looked at
    std::uint64_t left_out = 0;        // in folders: of formats that can't be repaired
    std::uint64_t already = 0;         // that an earlier run has mended into the same folder
    std::vector<std::string> missing;  // media and files that are not there
    bool interrupted = false;
    std::optional<Error> stopped;  // what could not be written: nothing was done behind it
    std::filesystem::path page;    // that shows files before and after; empty: there is none

    std::uint64_t count(repairing::Outcome outcome) const { return outcomes[static_cast<std::size_t>(outcome)]; }
};

Result<RepairReport> repair(const RepairRequest& request, RepairObserver& observer);

}  // namespace dredger

// The books that a restore keeps in its destination: the manifest, the sums, and the log; and those of earlier runs.
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "catalog/candidate.h"
#include "restoring/drive_sync.h"
#include "restoring/file_writer.h"
#include "restoring/manifest.h"
#include "restoring/outcome.h"

namespace spdlog {
class logger;
}

namespace dredger {

class Books {
  public:
    // Knows only what earlier runs did. `beyond`: their folders, whose files count as restored.
    static Result<Books> read_only(const std::vector<std::filesystem::path>& beyond);
    // Goes on with those that are in `folder`.
    Result<void> open(const std::filesystem::path& folder);

    const Manifest* manifest() const { return manifest_ ? &*manifest_ : nullptr; }

    // Where an earlier run put the file of this candidate; empty: none did, or what it left is not that file any more.
    // `reads_again`: also what was confirmed is read; what is not what it was is remembered as spoiled.
    std::string done_already(const std::string& catalog, const Candidate& candidate, bool reads_again);
    // Reads all else that the manifest of the folder names, until `stop` says so.
    void read_rest(const std::function<bool()>& stop);
    // Files that are not any more what was restored, below the folder.
    const std::vector<std::string>& spoiled() const { return spoiled_; }

    void note(const std::string& sentence, bool is_trouble = false);
    // `written` where there is a file now.
    Result<void> enter(const std::string& catalog, const Candidate& candidate, const std::filesystem::path& place,
                       Outcome outcome, const std::string& why, const WrittenFile* written);
    // The file of this row gave its place to another one; what became of it before.
    Result<std::optional<Outcome>> enter_replaced(const std::pair<std::string, std::int64_t>& row,
                                                  const std::filesystem::path& place);
    // All files are on the drive when the sums say so.
    Result<void> close();

  private:
    std::filesystem::path folder_;
    std::optional<Manifest> manifest_;
    std::vector<std::pair<std::filesystem::path, Manifest>> earlier_;
    std::shared_ptr<spdlog::logger> log_;
    std::unique_ptr<DriveSync> drive_;
    std::set<std::pair<std::string, std::int64_t>> entered_;  // rows of this run, and those that were read again
    std::vector<std::string> spoiled_;
};

}  // namespace dredger

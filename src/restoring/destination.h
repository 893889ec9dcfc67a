// The folder that restored files are written to: whether it can take them, and how much of it is left.
#pragma once

#include <filesystem>

#include "base/error.h"
#include "restoring/names.h"

namespace dredger {

class Destination {
  public:
    // Made where it is missing, unless `dry_run`. Fails where it is no folder or can't be written to.
    static Result<Destination> open(const std::filesystem::path& folder, bool dry_run);

    const std::filesystem::path& folder() const { return folder_; }
    const NameRules& rules() const { return rules_; }
    // Bytes that files can take now; some are kept for the manifest and the log.
    std::uint64_t room() const;

    // Names under which files are written before they get their own; what an interrupted run left under such names
    // goes.
    std::filesystem::path staging_name(std::uint64_t number) const;
    void clear_staging() const;

  private:
    std::filesystem::path folder_;
    std::filesystem::path existing_;  // itself, or the nearest folder above it that there is
    NameRules rules_;
};

}  // namespace dredger

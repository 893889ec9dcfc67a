// The folder that restored files are written to: whether it can take them, and how much of it is left.
#pragma once

#include <filesystem>
#include <memory>

#include "base/error.h"
#include "base/file_lock.h"
#include "restoring/names.h"

namespace dredger {

class Destination {
  public:
    // Made where it is missing, unless `dry_run`. Fails where it is no folder, can't be written to, or another run is
    // writing to it: as long as this one is there no further one can.
    static Result<Destination> open(const std::filesystem::path& folder, bool dry_run);

    const std::filesystem::path& folder() const { return folder_; }
    const NameRules& rules() const { return rules_; }
    // Whether an earlier run was ended from outside: files may stand under their names whose content never arrived.
    bool was_cut_off() const { return was_cut_off_; }
    // Bytes that files can take now; some are kept for the manifest and the log.
    std::uint64_t room() const;
    // Whether there is room for one more file of so many bytes, while `in_hand` bytes of others are being written. The
    // file system is asked anew only when half of what it told last may be used up.
    bool takes(std::uint64_t bytes, std::uint64_t in_hand);

    // Names under which files are written before they get their own, in a folder that is there from make_staging() to
    // clear_staging(). What an interrupted run left there goes.
    Result<void> make_staging() const;
    std::filesystem::path staging_name(std::uint64_t number) const;
    void clear_staging() const;

  private:
    std::filesystem::path folder_;
    std::filesystem::path existing_;  // itself, or the nearest folder above it that there is
    NameRules rules_;
    std::uint64_t told_ = 0, given_ = 0;  // bytes: what the file system told, and what was given of it since
    std::shared_ptr<const FileLock> lock_;
    bool was_cut_off_ = false;
    std::uint64_t unit_ = 1;  // bytes in which it gives room to files
};

}  // namespace dredger

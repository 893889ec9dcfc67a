// Writes one restored file: under a temporary name first, so that no half-written file ever has its final one.
#pragma once

#include <filesystem>
#include <functional>
#include <string>

#include "filesystems/filesystem.h"

namespace dredger {

struct WrittenFile {
    std::string sha256;
    std::uint64_t missing = 0;  // bytes for which zeros were written: holes in the layout and unreadable places
    std::vector<Extent> gaps;   // where these are, in bytes of the file
    bool interrupted = false;   // nothing was left behind
};

// `step` hears how many bytes were written and says whether to go on.
Result<WrittenFile> write_file(const MediumPtr& medium, const Record& record, const std::filesystem::path& target,
                               const std::function<bool(std::uint64_t)>& step);

// Waits until all that was written to the file system of `folder` is on its drive.
bool sync_folder(const std::filesystem::path& folder);

// The record's permissions, where it tells of any, but that who restores can always read and write it; and its times:
// where its clock was local, its digits are taken to be this machine's local time.
void set_mode_and_times(const std::filesystem::path& target, const Record& record);

}  // namespace dredger

// What lies in the bins of a volume, in figures.
#pragma once

#include <optional>

#include "filesystems/filesystem.h"

namespace dredger {

struct BinContents {
    std::uint64_t files = 0;  // with those in binned folders
    std::uint64_t folders = 0;
    std::uint64_t bytes = 0;
    std::optional<FileTime> first;  // deletion, as far as the bins tell
    std::optional<FileTime> last;

    bool empty() const { return files + folders == 0; }
    void add(const FileEntry& record);
};

// What of the live records of a volume lies in bins; reads them all. Nothing where the volume can not be walked.
BinContents look_into_bins(const MediumPtr& volume, const FileSystem& filesystem);

}  // namespace dredger

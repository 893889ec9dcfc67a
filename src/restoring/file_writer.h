// Writes the content of one file under a temporary name; only when all of it is there it gets its own, so that no
// half-written file ever has it.
#pragma once

#include <atomic>
#include <filesystem>
#include <string>

#include "base/beneath.h"
#include "filesystems/filesystem.h"
#include "restoring/content_sum.h"

namespace dredger {

// How the driver of a destination takes the time of a file's making: as an extended attribute of ntfs-3g (its manual,
// "Windows-specific attributes") or of the kernel's client for shares, or not at all.
enum class MakingTime { none, ntfs, share };
MakingTime making_time_of(const std::filesystem::path& folder);

// A file under a temporary name, which vanishes unless it is placed. Many may wait for their place: a completed one
// holds nothing open.
class StagedFile {
  public:
    StagedFile() = default;
    static Result<StagedFile> create(const std::filesystem::path& path);
    ~StagedFile() { discard(); }
    StagedFile(StagedFile&& other) noexcept
        : path_(std::exchange(other.path_, {})), descriptor_(std::exchange(other.descriptor_, -1)) {}
    StagedFile& operator=(StagedFile&& other) noexcept;

    bool write(std::uint64_t offset, std::span<const std::byte> bytes) const;
    // Of `size` bytes, of which `written` were; what was not reads as zeros.
    bool finish(std::uint64_t size, std::uint64_t written) const;
    // Sets the record's owner where that is permitted; its permissions, where it tells of any, but that who restores
    // can always read and write it; and its times, that of its making where the destination keeps one that can be set.
    // Where its clock was local, its digits are taken to be this machine's local time. Then it is closed.
    Result<void> complete(const FileEntry& record, MakingTime way);

    // Gives it its name, in place of what has it.
    Result<void> place(const PathBeneath& target);
    void discard();

  private:
    std::filesystem::path path_;  // empty: it is placed, or gone
    int descriptor_ = -1;         // until it is completed
};

struct WrittenFile {
    StagedFile file;
    std::string sum;
    std::uint64_t missing = 0;  // bytes for which zeros were written: holes in the layout and unreadable places
    std::vector<Extent> gaps;   // where these are, in bytes of the file
    bool interrupted = false;   // nothing was left behind
};

// How the work of several writers is watched and ended.
struct WritingWatch {
    std::atomic<std::uint64_t> written = 0;  // bytes
    std::atomic<bool> stop = false;
};

// Stretches that are zeros by definition become holes of the file.
Result<WrittenFile> write_file(const MediumPtr& medium, const MediumLayout& layout, const FileEntry& record,
                               const std::filesystem::path& staged, SumKind sums, WritingWatch& watch);

// The sum of a file, read from its drive and not from memory where that can be asked for; empty: it can't be read.
std::string read_back(const std::filesystem::path& file, SumKind sums);

// The facts that StagedFile::complete() sets, of a folder.
void set_folder_facts(const std::filesystem::path& folder, const FileEntry& record, MakingTime way);

}  // namespace dredger

#include "restoring/destination.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/beneath.h"
#include "base/checked.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// Bytes left free for the manifest, the log and the file system's own needs.
constexpr std::uint64_t kLeastSpare = 32 << 10, kMaxSpare = 4 << 20;
// Several folders, so that those who make files and those who move them away seldom wait for each other.
constexpr unsigned kStagingFolders = 8;
constexpr std::string_view kStaging = ".dredger-unfinished", kUnfinished = ".unfinished";

struct Space {
    std::uint64_t room = UINT64_MAX, unit = 1;  // bytes
};

Space space_of(const fs::path& folder) {
    struct statvfs space {};
    if (::statvfs(folder.c_str(), &space) != 0) return {};
    const std::uint64_t free = checked_mul(space.f_bavail, space.f_frsize).value_or(UINT64_MAX);
    const std::uint64_t all = checked_mul(space.f_blocks, space.f_frsize).value_or(UINT64_MAX);
    const std::uint64_t spare = std::clamp(all / 64, kLeastSpare, kMaxSpare);
    return {free > spare ? free - spare : 0, std::max<std::uint64_t>(1, space.f_frsize)};
}

}  // namespace

Result<Destination> Destination::open(const fs::path& folder, bool dry_run) {
    std::error_code failed;
    if (fs::exists(folder, failed) && !fs::is_directory(folder, failed))
        return fail(ErrorKind::usage, "the destination is not a folder", folder.string(),
                    "give a folder, it is made where it is missing");
    Destination destination;
    destination.folder_ = folder;
    if (!dry_run) {
        fs::create_directories(folder, failed);
        if (failed)
            return not_written("the destination can't be made", folder.string(), "choose a folder that is yours",
                               failed.value());
    }
    const fs::path existing = nearest_existing(folder);
    if (::access(existing.c_str(), W_OK) != 0)
        return fail(ErrorKind::output, fmt::format("the destination can't be written ({})", std::strerror(errno)),
                    existing.string(), "choose a folder that is yours");
    if (!dry_run) {
        destination.lock_ = std::make_shared<FileLock>(folder);
        if (destination.lock_->is_held_elsewhere())
            return fail(ErrorKind::unsafe, "another restore is writing into the destination", folder.string(),
                        "wait until it is done, or give another folder");
    }
    destination.existing_ = existing;
    destination.was_cut_off_ = fs::is_directory(fs::symlink_status(folder / kStaging, failed));
    destination.rules_ = rules_of(existing);
    return destination;
}

std::uint64_t Destination::room() const { return space_of(existing_).room; }

bool Destination::takes(std::uint64_t bytes, std::uint64_t in_hand) {
    // It fills whole units, and takes some room for its name and its record, too.
    const auto given_with_it = [&] {
        return checked_add(given_, checked_add(bytes, 2 * unit_).value_or(UINT64_MAX)).value_or(UINT64_MAX);
    };
    if (given_with_it() > told_ / 2) {
        const Space space = space_of(existing_);
        told_ = space.room;
        unit_ = space.unit;
        given_ = in_hand;
    }
    if (given_ > told_ || bytes > told_ - given_) return false;
    given_ = given_with_it();
    return true;
}

fs::path Destination::staging_name(std::uint64_t number) const {
    return folder_ / kStaging / std::to_string(number % kStagingFolders) / fmt::format("{}{}", number, kUnfinished);
}

Result<void> Destination::make_staging() const {
    DREDGER_CHECK(refuse_link(folder_ / kStaging));
    clear_staging();
    for (unsigned n = 0; n < kStagingFolders; ++n) {
        const fs::path folder = folder_ / kStaging / std::to_string(n);
        if (const auto failed = make_folder_beneath({folder_, fs::path(kStaging) / std::to_string(n)}))
            return not_written("the folder for unfinished files can't be made", folder.string(),
                               "check space and permissions of the destination", failed.value());
    }
    return {};
}

void Destination::clear_staging() const {
    std::error_code failed;
    // Nothing but what bears such a name, and lies where it belongs.
    for (unsigned n = 0; n < kStagingFolders; ++n) {
        const fs::path folder = folder_ / kStaging / std::to_string(n);
        if (!refuse_link(folder_ / kStaging) || !refuse_link(folder)) continue;
        std::vector<fs::path> left;
        for (const auto& entry : fs::directory_iterator(folder, failed))
            if (entry.path().extension() == kUnfinished) left.push_back(entry.path());
        for (const fs::path& path : left) fs::remove(path, failed);
        fs::remove(folder, failed);
    }
    fs::remove(folder_ / kStaging, failed);
}

}  // namespace dredger

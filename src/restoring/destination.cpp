#include "restoring/destination.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/checked.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;

// Bytes left free for the manifest, the log and the file system's own needs.
constexpr std::uint64_t kLeastSpare = 32 << 10, kMostSpare = 4 << 20;
constexpr std::string_view kStaging = ".dredger-", kUnfinished = ".unfinished";

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
            return fail(ErrorKind::output, "the destination can't be made: " + failed.message(), folder.string(),
                        "choose a folder that is yours");
    }
    fs::path existing = fs::absolute(folder);
    while (!fs::exists(existing, failed) && existing != existing.parent_path()) existing = existing.parent_path();
    if (::access(existing.c_str(), W_OK) != 0)
        return fail(ErrorKind::output, fmt::format("the destination can't be written ({})", std::strerror(errno)),
                    existing.string(), "choose a folder that is yours");
    destination.existing_ = existing;
    destination.rules_ = rules_of(existing);
    return destination;
}

std::uint64_t Destination::room() const {
    struct statvfs space {};
    if (::statvfs(existing_.c_str(), &space) != 0) return UINT64_MAX;
    const std::uint64_t free = checked_mul(space.f_bavail, space.f_frsize).value_or(UINT64_MAX);
    const std::uint64_t all = checked_mul(space.f_blocks, space.f_frsize).value_or(UINT64_MAX);
    const std::uint64_t spare = std::clamp(all / 64, kLeastSpare, kMostSpare);
    return free > spare ? free - spare : 0;
}

fs::path Destination::staging_name(std::uint64_t number) const {
    return folder_ / fmt::format("{}{}{}", kStaging, number, kUnfinished);
}

void Destination::clear_staging() const {
    std::error_code failed;
    std::vector<fs::path> left;
    for (const auto& entry : fs::directory_iterator(folder_, failed)) {
        const std::string name = entry.path().filename().string();
        if (name.starts_with(kStaging) && name.ends_with(kUnfinished)) left.push_back(entry.path());
    }
    for (const fs::path& path : left) fs::remove(path, failed);
}

}  // namespace dredger

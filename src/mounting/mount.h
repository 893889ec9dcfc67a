// The finds of a catalog as a read-only file system (libfuse 3), so that any program can look at them.
#pragma once

#include <filesystem>
#include <functional>
#include <map>

#include "mounting/finds_folder.h"

namespace dredger {

enum class Holes {
    error,  // what can't be had is an error of reading
    zeros,  // zeros stand for it
};
inline constexpr std::string_view kHolesWords[] = {"error", "zeros"};

struct MountRequest {
    std::filesystem::path place;  // an empty folder
    Holes holes = Holes::error;
    bool everybody = false;  // other users may look, too
};

// Mounts, and serves until somebody unmounts it or asks to stop by SIGINT, SIGTERM or SIGHUP. `is_mounted` is called
// once it can be looked at. The folder of finds and the media, by volume, outlive it.
Result<void> serve_mounted(FindsFolder& finds, const std::map<std::int64_t, MediumPtr>& media,
                           const MountRequest& request, const std::function<void()>& is_mounted);

}  // namespace dredger

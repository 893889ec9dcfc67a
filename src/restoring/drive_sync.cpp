#include "restoring/drive_sync.h"

#include <cerrno>
#include <fcntl.h>
#include <unistd.h>

namespace dredger {
namespace {

using namespace std::chrono_literals;

// What is worth a turn of its own.
constexpr std::uint64_t kFiles = 20'000, kBytes = 256 << 20;

std::error_code last_error() { return {errno, std::generic_category()}; }

}  // namespace

DriveSync::DriveSync(const std::filesystem::path& folder)
    : descriptor_(::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC)) {
    if (descriptor_ < 0) trouble_ = last_error();
}

DriveSync::~DriveSync() {
    if (under_way_.valid()) under_way_.wait();
    if (descriptor_ >= 0) ::close(descriptor_);
}

void DriveSync::start() {
    files_ = bytes_ = 0;
    under_way_ = std::async(std::launch::async, [this]() -> std::error_code {
        return ::syncfs(descriptor_) == 0 ? std::error_code() : last_error();
    });
}

void DriveSync::wrote(std::uint64_t bytes) {
    ++files_;
    bytes_ += bytes;
    if (trouble_ || (files_ < kFiles && bytes_ < kBytes)) return;
    if (under_way_.valid()) {
        if (under_way_.wait_for(0s) != std::future_status::ready) return;
        trouble_ = under_way_.get();
    }
    if (!trouble_) start();
}

std::error_code DriveSync::wait() {
    if (under_way_.valid())
        if (const auto failed = under_way_.get(); failed) trouble_ = failed;
    if (!trouble_) {
        start();
        trouble_ = under_way_.get();
    }
    return trouble_;
}

}  // namespace dredger

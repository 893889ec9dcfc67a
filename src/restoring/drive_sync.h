// Brings restored files onto their drive while more of them are written, so that little is left to wait for at the end.
#pragma once

#include <cstdint>
#include <filesystem>
#include <future>
#include <system_error>

namespace dredger {

class DriveSync {
  public:
    explicit DriveSync(const std::filesystem::path& folder);
    ~DriveSync();
    DriveSync(const DriveSync&) = delete;
    DriveSync& operator=(const DriveSync&) = delete;

    // One more file of so many bytes was written.
    void wrote(std::uint64_t bytes);
    // Waits until all that was written to the folder's file system is on its drive; also tells of what went wrong with
    // anything that was written since this began.
    std::error_code wait();

  private:
    void start();

    int descriptor_;  // held all the time: what goes wrong meanwhile is told to it
    std::error_code trouble_;
    std::future<std::error_code> under_way_;
    std::uint64_t files_ = 0, bytes_ = 0;  // since it was begun last
};

}  // namespace dredger

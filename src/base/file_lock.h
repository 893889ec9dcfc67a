// Says that somebody writes to a file or folder, so that no second run does so at the same time.
#pragma once

#include <filesystem>

namespace dredger {

// Held until it goes, however the program ends. Readers do not mind it.
class FileLock {
  public:
    // Of what exists. Where it can't be locked at all (some file systems know no locks) nobody is kept out.
    explicit FileLock(const std::filesystem::path& path);
    ~FileLock();
    FileLock(const FileLock&) = delete;
    FileLock& operator=(const FileLock&) = delete;

    bool is_held_elsewhere() const { return is_held_elsewhere_; }

  private:
    int descriptor_;
    bool is_held_elsewhere_;
};

}  // namespace dredger

#include "base/file_lock.h"

#include <cerrno>
#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

namespace dredger {

FileLock::FileLock(const std::filesystem::path& path)
    : descriptor_(::open(path.c_str(), O_RDONLY | O_CLOEXEC)),
      is_held_elsewhere_(descriptor_ >= 0 && ::flock(descriptor_, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK) {}

FileLock::~FileLock() {
    if (descriptor_ >= 0) ::close(descriptor_);
}

}  // namespace dredger

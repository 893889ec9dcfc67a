#include "base/beneath.h"

#include <cerrno>
#include <cstdio>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

namespace dredger {
namespace {

namespace fs = std::filesystem;

std::error_code last_error() { return {errno, std::system_category()}; }

class Folder {
  public:
    explicit Folder(const fs::path& root)
        : descriptor_(::open(root.empty() ? "." : root.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC)) {}
    ~Folder() {
        if (descriptor_ >= 0) ::close(descriptor_);
    }
    Folder(const Folder&) = delete;
    Folder& operator=(const Folder&) = delete;

    bool is_open() const { return descriptor_ >= 0; }
    int descriptor() const { return descriptor_; }

    // False: errno tells why.
    bool enter(const fs::path& name, bool makes_it) {
        if (name == "." || name == ".." || name.is_absolute()) return errno = EINVAL, false;
        if (makes_it && ::mkdirat(descriptor_, name.c_str(), 0777) != 0 && errno != EEXIST) return false;
        const int next = ::openat(descriptor_, name.c_str(), O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
        if (next < 0) return false;
        ::close(std::exchange(descriptor_, next));
        return true;
    }

  private:
    int descriptor_;
};

std::error_code walk(Folder& folder, const fs::path& relative, bool makes_them) {
    if (!folder.is_open()) return last_error();
    for (const fs::path& name : relative)
        if (!name.empty() && !folder.enter(name, makes_them)) return last_error();
    return {};
}

}  // namespace

std::error_code make_folder_beneath(const PathBeneath& folder) {
    Folder at(folder.root);
    return walk(at, folder.relative, true);
}

std::error_code rename_beneath(const fs::path& from, const PathBeneath& to) {
    Folder at(to.root);
    if (const auto failed = walk(at, to.relative.parent_path(), false)) return failed;
    if (::renameat(AT_FDCWD, from.c_str(), at.descriptor(), to.relative.filename().c_str()) != 0) return last_error();
    return {};
}

std::filesystem::path nearest_existing(const std::filesystem::path& folder) {
    std::error_code failed;
    std::filesystem::path existing = std::filesystem::absolute(folder, failed);
    while (!std::filesystem::exists(existing, failed) && existing != existing.parent_path())
        existing = existing.parent_path();
    return existing;
}

Result<void> refuse_link(const fs::path& file) {
    std::error_code failed;
    if (!fs::is_symlink(fs::symlink_status(file, failed))) return {};
    return fail(ErrorKind::output, "a link stands where this is to be written, and would lead elsewhere", file.string(),
                "remove it, or choose another folder");
}

}  // namespace dredger

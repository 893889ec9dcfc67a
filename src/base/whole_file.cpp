#include "base/whole_file.h"

#include <cerrno>
#include <cstdio>
#include <fcntl.h>
#include <fstream>
#include <sstream>
#include <unistd.h>

#include "base/beneath.h"
#include "base/file_io.h"

namespace dredger {

Result<std::string> read_whole_file(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) return fail(ErrorKind::unreadable, "this can't be read", file.string(), "check the path");
    return text.str();
}

namespace {

// False: errno tells why.
bool move_unless_there(const std::string& from, const std::string& to) {
    if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return true;
    if (errno == EEXIST) return ::unlink(from.c_str()) == 0;
    // Some file systems don't know the request.
    return (errno == EINVAL || errno == ENOSYS) && ::rename(from.c_str(), to.c_str()) == 0;
}

Result<void> write_and_move(const std::filesystem::path& file, std::string_view text, bool replaces) {
    const std::string fresh = file.string() + ".new";
    // What an interrupted run left, or somebody put there as a link, is not written through.
    ::unlink(fresh.c_str());
    const int descriptor = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0644);
    bool done = descriptor >= 0 && write_all(descriptor, 0, std::as_bytes(std::span(text)));
    done = done && ::fsync(descriptor) == 0;
    if (descriptor >= 0) done = ::close(descriptor) == 0 && done;
    done = done && (replaces ? ::rename(fresh.c_str(), file.c_str()) == 0 : move_unless_there(fresh, file));
    if (done) return {};
    const int why = errno;
    ::unlink(fresh.c_str());
    return not_written("can't be written", file.string(), "check space and permissions of the folder", why);
}

}  // namespace

Result<void> write_whole_file(const std::filesystem::path& file, std::string_view text) {
    return write_and_move(file, text, true);
}

Result<void> write_new_file(const std::filesystem::path& file, std::string_view text) {
    return write_and_move(file, text, false);
}

Result<void> write_over(const std::filesystem::path& file, std::string_view bytes, const std::string& what) {
    DREDGER_CHECK(refuse_link(file));
    std::ofstream out(file, std::ios::binary | std::ios::trunc);
    out << bytes << std::flush;
    return out ? Result<void>() : not_written(what, file.string(), "check for room on the drive");
}

}  // namespace dredger

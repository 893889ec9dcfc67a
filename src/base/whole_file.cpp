#include "base/whole_file.h"

#include <cerrno>
#include <fcntl.h>
#include <fstream>
#include <sstream>
#include <unistd.h>

#include "base/file_io.h"

namespace dredger {

Result<std::string> read_whole_file(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    std::stringstream text;
    text << in.rdbuf();
    if (!in) return fail(ErrorKind::unreadable, "this can't be read", file.string(), "check the path");
    return text.str();
}

Result<void> write_whole_file(const std::filesystem::path& file, std::string_view text) {
    const std::string fresh = file.string() + ".new";
    // What an interrupted run left, or somebody put there as a link, is not written through.
    ::unlink(fresh.c_str());
    const int descriptor = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0644);
    bool done = descriptor >= 0 && write_all(descriptor, 0, std::as_bytes(std::span(text)));
    done = done && ::fsync(descriptor) == 0;
    if (descriptor >= 0) done = ::close(descriptor) == 0 && done;
    done = done && ::rename(fresh.c_str(), file.c_str()) == 0;
    if (done) return {};
    const int why = errno;
    ::unlink(fresh.c_str());
    return not_written("can't be written", file.string(), "check space and permissions of the folder", why);
}

}  // namespace dredger
